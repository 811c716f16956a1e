import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { service, ServiceError, type EditFinding, type EditMeasures } from '../../api/client';
import { Notice } from '../../components/Notice';
import { visible } from '../../lib/format';
import { editValue, findingLabel, placeOf, telling } from '../../lib/edits';

/** The edit measures of a round; undefined where there are none. */
export function useEdits(id: string, round: string | undefined) {
  return useQuery({
    queryKey: ['edits', id, round],
    queryFn: async () => {
      try {
        return await service.edits(id, round);
      } catch (e) {
        if (e instanceof ServiceError && e.status === 404) return null;
        throw e;
      }
    },
  });
}

/** What a person says of a finding. */
function Word({ bout, finding }: { bout: string; finding: EditFinding }) {
  const [open, setOpen] = useState(false);
  const [reason, setReason] = useState('');
  const queries = useQueryClient();
  const say = useMutation({
    mutationFn: (mark: '' | 'aside' | 'needed' | 'welcome' | 'unwanted') => service.markEdit(bout, finding.id, { mark, reason: mark === 'aside' ? reason : '', by: '' }),
    onSuccess: () => {
      setOpen(false);
      void queries.invalidateQueries({ queryKey: ['edits', bout] });
      void queries.invalidateQueries({ queryKey: ['bout', bout] });
    },
  });
  const small = 'cursor-pointer rounded border border-line px-1.5 text-xs hover:bg-water-soft';
  return (
    <span className="inline-flex flex-wrap items-center gap-1">
      {finding.mark !== '' && (
        <span className="text-xs text-faint">
          {finding.mark}
          {finding.by ? ` (${visible(finding.by)})` : ''}
          {finding.reason ? `: ${visible(finding.reason)}` : ''}
        </span>
      )}
      {finding.measure === 'strays' &&
        (['needed', 'welcome', 'unwanted'] as const).map((m) =>
          m === finding.mark ? null : (
            <button key={m} type="button" className={small} onClick={() => say.mutate(m)}>
              {m}
            </button>
          ),
        )}
      {finding.mark !== '' ? (
        <button type="button" className={small} onClick={() => say.mutate('')}>
          take back
        </button>
      ) : open ? (
        <form
          className="inline-flex gap-1"
          onSubmit={(e) => {
            e.preventDefault();
            say.mutate('aside');
          }}
        >
          <input autoFocus required aria-label="Why it does not count" placeholder="why it does not count" value={reason} onChange={(e) => setReason(e.target.value)} className="w-56 rounded border border-line bg-paper px-1.5 text-xs" />
          <button type="submit" className={small}>
            set aside
          </button>
        </form>
      ) : (
        <button type="button" className={small} onClick={() => setOpen(true)}>
          false alarm
        </button>
      )}
      {say.error && <span className="text-xs text-bad">{say.error.message}</span>}
    </span>
  );
}

/** How many findings of a measure are listed before the others are asked for. */
const FEW = 8;

function Evidence({ bout, findings, onShow }: { bout: string; findings: EditFinding[]; onShow: (f: EditFinding) => void }) {
  const [all, setAll] = useState(false);
  if (findings.length === 0) return null;
  return (
    <ul className="mt-1 list-none">
      {(all ? findings : findings.slice(0, FEW)).map((f) => (
        <li key={f.id} className={`border-t border-line py-1 ${f.mark === 'aside' ? 'opacity-60' : ''}`}>
          <div className="flex flex-wrap items-baseline gap-x-3">
            <span className={f.measure === 'tests' && f.kind === 'added' ? 'text-good' : 'text-lamp'}>{findingLabel(f)}</span>
            {f.path && (
              <button type="button" className="cursor-pointer font-mono text-xs break-all text-water underline" onClick={() => onShow(f)}>
                {visible(placeOf(f))}
              </button>
            )}
            <span className="text-xs text-faint">{visible(f.why)}</span>
            <span className="ml-auto">
              <Word bout={bout} finding={f} />
            </span>
          </div>
          {f.text && <code className="block overflow-hidden text-xs text-ellipsis whitespace-pre">{visible(f.text)}</code>}
          {f.other && <div className="font-mono text-xs text-faint">stands in {visible(placeOf(f.other))}</div>}
        </li>
      ))}
      {!all && findings.length > FEW && (
        <li className="border-t border-line py-1">
          <button type="button" className="cursor-pointer text-xs text-water underline" onClick={() => setAll(true)}>
            {findings.length - FEW} more
          </button>
        </li>
      )}
    </ul>
  );
}

/** What shows a finding in the change, or the places of a figure. */
interface Leads {
  onShow: (f: EditFinding) => void;
  onFigure: (name: string) => void;
}

function Measure({ of: { name, title, misses }, edits, onShow, onFigure }: { of: EditMeasures['measures'][number]; edits: EditMeasures } & Leads) {
  const [open, setOpen] = useState(false);
  const figures = telling(edits.figures, name);
  const findings = edits.findings.filter((f) => f.measure === name);
  if (figures.length === 0 && findings.length === 0) return null;
  return (
    <section aria-label={title} className="border-t border-line px-3 py-2 first:border-0">
      <div className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <h3 className="w-64 shrink-0 font-medium">
          {title}{' '}
          <button type="button" aria-expanded={open} aria-label={`What ${name} cannot see`} title="what it cannot see" className="cursor-pointer rounded border border-line px-1 text-xs font-normal text-faint hover:bg-water-soft" onClick={() => setOpen(!open)}>
            ?
          </button>
        </h3>
        <dl className="flex min-w-0 flex-1 flex-wrap gap-x-4 gap-y-0.5 text-sm">
          {figures.map((f) => (
            <div key={f.name} className="flex gap-1.5" title={f.value === null ? f.why : f.words}>
              <dt className="text-faint">{f.title}</dt>
              <dd className={`tabular-nums ${f.at_most !== null && f.value !== null && f.value > f.at_most ? 'text-bad' : f.kinds && f.value ? 'font-medium' : ''}`}>
                {f.where.length > 0 && f.value !== null ? (
                  <button type="button" className="cursor-pointer text-water underline decoration-dotted underline-offset-2" aria-label={`${f.title} ${editValue(f.unit, f.value)}: show where`} onClick={() => onFigure(f.name)}>
                    {editValue(f.unit, f.value)}
                  </button>
                ) : (
                  editValue(f.unit, f.value)
                )}
                {f.at_most !== null && <span className="text-xs text-faint"> of at most {f.at_most}</span>}
              </dd>
            </div>
          ))}
        </dl>
      </div>
      {open && <p className="text-xs text-faint">It does not see {misses}</p>}
      <Evidence bout={edits.bout_id} findings={findings} onShow={onShow} />
    </section>
  );
}

/** What kind of change it is, each figure with the places that it was counted from. */
export function EditsView({ id, round, ...leads }: { id: string; round: string | undefined } & Leads) {
  const { data, error } = useEdits(id, round);
  const queries = useQueryClient();
  const again = useMutation({
    mutationFn: () => service.measureAgain(id),
    onSuccess: () => void queries.invalidateQueries({ queryKey: ['edits', id] }),
  });
  const button = (
    <button type="button" className="cursor-pointer rounded border border-line px-2 py-0.5 text-xs hover:bg-water-soft" disabled={again.isPending} onClick={() => again.mutate()}>
      {again.isPending ? 'Working …' : 'Work them out anew'}
    </button>
  );
  if (data === null)
    return (
      <div className="p-3 text-faint">
        <p className="mb-2">There are no edit measures: nothing was captured, or it was judged by an older Agonometer.</p>
        {button} {again.error && <span className="text-bad">{again.error.message}</span>}
      </div>
    );
  if (!data) return <Notice error={error} what="the edit measures" />;
  return (
    <div>
      {data.measures.map((m) => (
        <Measure key={m.name} of={m} edits={data} {...leads} />
      ))}
      <ul className="list-none border-t border-line px-3 py-2 text-xs text-faint">
        <li>Each figure is a count or a share of what is listed below it, and leads to its lines in the change. A different good solution is not a fault: nearness is information only.</li>
        {data.off.length > 0 && <li>Left out by the task: {data.off.join(', ')}.</li>}
        {data.notes.map((n) => (
          <li key={n}>Note: {visible(n)}.</li>
        ))}
        {data.version !== data.current && (
          <li>
            Worked out by version {data.version}; the present one is {data.current}. {button}
          </li>
        )}
      </ul>
    </div>
  );
}
