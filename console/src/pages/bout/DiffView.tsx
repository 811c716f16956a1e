import { useQuery } from '@tanstack/react-query';
import { Collapsible } from 'radix-ui';
import { useEffect, useMemo, useRef, useState } from 'react';

import { service, type DiffFile, type EditFinding } from '../../api/client';
import { Notice } from '../../components/Notice';
import { byLine, findingLabel, inFile, inPlace, placeOf, quiet, soughtOf, type Place, type Sought } from '../../lib/edits';
import { count, visible } from '../../lib/format';
import { useKeys } from '../../lib/keys';
import { useEdits } from './Edits';

const SIGNS: Record<string, string> = { added: '+', removed: '−', context: ' ' };
const ROWS: Record<string, string> = { added: 'bg-good-soft', removed: 'bg-bad-soft', context: '' };

function Name({ file }: { file: DiffFile }) {
  return (
    <span className="font-mono break-all">
      {file.old_path ? `${visible(file.old_path)} → ` : ''}
      {visible(file.path)}
    </span>
  );
}

/** What was found in a line, said beside it. */
export function LineMarks({ findings }: { findings: EditFinding[] | undefined }) {
  if (!findings) return null;
  return (
    <>
      {findings.map((f) => (
        <span key={f.id} title={f.why} className={`ml-3 rounded px-1.5 font-sans text-[11px] ${quiet(f) ? 'bg-water-soft text-faint' : 'bg-open-soft text-open'} ${f.mark === 'aside' ? 'line-through' : ''}`}>
          {findingLabel(f)}
        </span>
      ))}
    </>
  );
}

/** What was found in a line of a diff. */
export function marksOf(marks: Map<string, EditFinding[]>, l: { kind: string; old?: number; new?: number }): EditFinding[] | undefined {
  if (l.kind === 'removed') return marks.get(`before ${l.old}`);
  return marks.get(`after ${l.new}`) ?? (l.kind === 'context' ? marks.get(`before ${l.old}`) : undefined);
}

/** The lines of a file; here are the places in it that are looked for, at is the one that is looked at. */
function Lines({ file, marks, here, at }: { file: DiffFile; marks: Map<string, EditFinding[]>; here: Place[]; at: Place | null }) {
  const first = useRef<HTMLTableRowElement>(null);
  useEffect(() => {
    if (at?.line) first.current?.scrollIntoView({ block: 'center' });
  }, [at]);
  if (file.binary) return <p className="px-3 py-2 text-faint">A binary file; its contents are not shown.</p>;
  if (file.hunks.length === 0) {
    return (
      <p className="px-3 py-2 text-faint">
        {file.status === 'mode' ? `Only the mode changed: ${file.old_mode} → ${file.new_mode}` : 'No lines changed.'}
      </p>
    );
  }
  const start = at && file.hunks.flatMap((h) => h.lines).find((l) => inPlace(at, l));
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse font-mono text-xs leading-5">
        {file.hunks.map((h, i) => (
          // Hunks have no name of their own, and never change.
          <tbody key={i}>
            <tr className="bg-water-soft text-faint">
              <td colSpan={4} className="px-3">
                @@ {visible(h.heading)}
              </td>
            </tr>
            {h.lines.map((l, j) => {
              const current = at !== null && inPlace(at, l);
              const sought = current || here.some((p) => inPlace(p, l));
              return (
                <tr key={j} ref={l === start ? first : undefined} data-sought={current ? 'here' : sought ? 'too' : undefined} className={ROWS[l.kind]}>
                  <td className={`w-12 min-w-12 px-2 text-right text-faint select-none ${current ? 'border-l-4 border-lamp bg-open-soft' : sought ? 'border-l-4 border-lamp/40' : ''}`}>{l.old ?? ''}</td>
                  <td className={`w-12 min-w-12 px-2 text-right text-faint select-none ${current ? 'bg-open-soft' : ''}`}>{l.new ?? ''}</td>
                  <td className="w-5 min-w-5 text-center select-none" aria-label={l.kind}>
                    {SIGNS[l.kind]}
                  </td>
                  <td className="pr-3 whitespace-pre">
                    {visible(l.text)}
                    {l.no_newline && <span className="ml-2 text-faint">(no line end)</span>}
                    <LineMarks findings={marksOf(marks, l)} />
                  </td>
                </tr>
              );
            })}
          </tbody>
        ))}
      </table>
      {file.cut ? <p className="px-3 py-2 text-faint">{count(file.cut, 'more line')} not shown; the whole is at: agonometer bout diff</p> : null}
    </div>
  );
}

/** More lines than this, and a file is shown when it is asked for. */
const LONG = 400;

function FileDiff({ file, findings, places, at }: { file: DiffFile; findings: EditFinding[]; places: Place[]; at: Place | null }) {
  const marks = useMemo(() => byLine(findings, file.path, file.old_path), [findings, file]);
  const here = useMemo(() => places.filter((p) => inFile(p, file)), [places, file]);
  const mine = at !== null && inFile(at, file) ? at : null;
  const [chosen, setOpen] = useState<boolean | null>(null);
  const open = chosen ?? (mine !== null || file.added + file.removed <= LONG);
  const header = useRef<HTMLHeadingElement>(null);
  useEffect(() => {
    if (mine && !file.hunks.some((h) => h.lines.some((l) => inPlace(mine, l)))) header.current?.scrollIntoView({ block: 'center' });
  }, [mine, file]);
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="border-t border-line first:border-0" id={`file-${file.path}`}>
      <h3 ref={header}>
        <Collapsible.Trigger data-sought={mine && !mine.line ? 'here' : undefined} className="flex w-full data-[sought]:border-l-4 data-[sought]:border-lamp cursor-pointer items-center gap-3 bg-paper px-3 py-1.5 text-left text-sm">
          <span aria-hidden="true" className="w-3">
            {open ? '▾' : '▸'}
          </span>
          <Name file={file} />
          <LineMarks findings={marks.get('file')} />
          <span className="ml-auto text-xs whitespace-nowrap text-faint">
            {file.status} · <span className="text-good">+{file.added}</span> <span className="text-bad">−{file.removed}</span>
          </span>
        </Collapsible.Trigger>
      </h3>
      <Collapsible.Content>{open && <Lines file={file} marks={marks} here={here} at={mine} />}</Collapsible.Content>
    </Collapsible.Root>
  );
}

const NONE: never[] = [];

/** What is looked for, and the way from place to place. */
function Bar({ sought, n, onGo, onEnd }: { sought: Sought; n: number; onGo: (n: number) => void; onEnd: () => void }) {
  const small = 'cursor-pointer rounded border border-line bg-sheet px-1.5 text-xs hover:bg-water-soft disabled:opacity-40';
  useKeys({ n: () => onGo(n + 1), p: () => onGo(n - 1) });
  const at = sought.places[n];
  return (
    <div role="status" className="sticky top-0 z-10 flex flex-wrap items-baseline gap-x-3 gap-y-1 border-b border-line bg-open-soft px-3 py-1.5 text-sm">
      <span>{visible(sought.title)}</span>
      {at && <span className="font-mono text-xs break-all text-faint">{visible(placeOf(at))}</span>}
      <span className="ml-auto flex items-baseline gap-2 whitespace-nowrap">
        {sought.places.length > 1 && (
          <>
            <span className="text-xs text-faint tabular-nums">
              place {n + 1} of {sought.places.length}
              {sought.more > 0 ? ` (${sought.more} more are not listed)` : ''}
            </span>
            <button type="button" className={small} disabled={n === 0} onClick={() => onGo(n - 1)}>
              previous <kbd>p</kbd>
            </button>
            <button type="button" className={small} disabled={n === sought.places.length - 1} onClick={() => onGo(n + 1)}>
              next <kbd>n</kbd>
            </button>
          </>
        )}
        <button type="button" className={small} aria-label="Look for nothing" onClick={onEnd}>
          ✕
        </button>
      </span>
    </div>
  );
}

/** A bout's change with what was found in it; at is a finding that is looked for, or figure a figure. */
export function DiffView({ id, round, at, figure, onEnd }: { id: string; round: string | undefined; at: string | null; figure: string | null; onEnd: () => void }) {
  const edits = useEdits(id, round).data;
  const { data, error } = useQuery({ queryKey: ['diff', id, round], queryFn: () => service.diff(id, round), staleTime: Infinity });
  const sought = useMemo(() => soughtOf(edits, at, figure), [edits, at, figure]);
  const [step, setStep] = useState({ key: '', n: 0 });
  const n = sought && step.key === sought.key ? step.n : 0;
  const go = (to: number) => sought && to >= 0 && to < sought.places.length && setStep({ key: sought.key, n: to });
  if (!data) return <Notice error={error} what="the change" />;
  if (data.files.length === 0) return <p className="p-3 text-faint">Nothing was changed.</p>;
  return (
    <div>
      {sought && <Bar sought={sought} n={n} onGo={go} onEnd={onEnd} />}
      {data.files.map((f) => (
        <FileDiff key={f.path + (f.old_path ?? '')} file={f} findings={edits?.findings ?? NONE} places={sought?.places ?? NONE} at={sought?.places[n] ?? null} />
      ))}
    </div>
  );
}
