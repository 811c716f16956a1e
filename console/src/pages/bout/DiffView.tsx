import { useQuery } from '@tanstack/react-query';
import { Collapsible } from 'radix-ui';
import { useEffect, useMemo, useRef, useState } from 'react';

import { service, type DiffFile, type EditFinding } from '../../api/client';
import { Notice } from '../../components/Notice';
import { byLine, findingLabel, quiet } from '../../lib/edits';
import { count, visible } from '../../lib/format';
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

function Lines({ file, marks, at }: { file: DiffFile; marks: Map<string, EditFinding[]>; at: string | null }) {
  const sought = useRef<HTMLTableRowElement>(null);
  useEffect(() => {
    sought.current?.scrollIntoView({ block: 'center' });
  }, [at]);
  if (file.binary) return <p className="px-3 py-2 text-faint">A binary file; its contents are not shown.</p>;
  if (file.hunks.length === 0) {
    return (
      <p className="px-3 py-2 text-faint">
        {file.status === 'mode' ? `Only the mode changed: ${file.old_mode} → ${file.new_mode}` : 'No lines changed.'}
      </p>
    );
  }
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
              const found = marksOf(marks, l);
              const here = at !== null && (found?.some((f) => f.id === at) ?? false);
              return (
              <tr key={j} ref={here ? sought : undefined} className={`${ROWS[l.kind]} ${here ? 'outline-2 -outline-offset-2 outline-lamp' : ''}`}>
                <td className="w-12 px-2 text-right text-faint select-none">{l.old ?? ''}</td>
                <td className="w-12 px-2 text-right text-faint select-none">{l.new ?? ''}</td>
                <td className="w-5 text-center select-none" aria-label={l.kind}>
                  {SIGNS[l.kind]}
                </td>
                <td className="pr-3 whitespace-pre">
                  {visible(l.text)}
                  {l.no_newline && <span className="ml-2 text-faint">(no line end)</span>}
                  <LineMarks findings={found} />
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

function FileDiff({ file, findings, at }: { file: DiffFile; findings: EditFinding[]; at: string | null }) {
  const marks = useMemo(() => byLine(findings, file.path, file.old_path), [findings, file]);
  const wanted = at !== null && [...marks.values()].some((list) => list.some((f) => f.id === at));
  const [chosen, setOpen] = useState<boolean | null>(null);
  const open = chosen ?? (wanted || file.added + file.removed <= LONG);
  const whole = marks.get('file');
  const header = useRef<HTMLHeadingElement>(null);
  const atFile = whole?.some((f) => f.id === at) ?? false;
  useEffect(() => {
    if (atFile) header.current?.scrollIntoView({ block: 'start' });
  }, [atFile]);
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="border-t border-line first:border-0" id={`file-${file.path}`}>
      <h3 ref={header}>
        <Collapsible.Trigger className="flex w-full cursor-pointer items-center gap-3 bg-paper px-3 py-1.5 text-left text-sm">
          <span aria-hidden="true" className="w-3">
            {open ? '▾' : '▸'}
          </span>
          <Name file={file} />
          <LineMarks findings={whole} />
          <span className="ml-auto text-xs whitespace-nowrap text-faint">
            {file.status} · <span className="text-good">+{file.added}</span> <span className="text-bad">−{file.removed}</span>
          </span>
        </Collapsible.Trigger>
      </h3>
      <Collapsible.Content>{open && <Lines file={file} marks={marks} at={at} />}</Collapsible.Content>
    </Collapsible.Root>
  );
}

const NONE: EditFinding[] = [];

/** A bout's change with what was found in it; at is the finding that is looked for. */
export function DiffView({ id, round, at }: { id: string; round: string | undefined; at: string | null }) {
  const edits = useEdits(id, round).data;
  const { data, error } = useQuery({ queryKey: ['diff', id, round], queryFn: () => service.diff(id, round), staleTime: Infinity });
  if (!data) return <Notice error={error} what="the change" />;
  if (data.files.length === 0) return <p className="p-3 text-faint">Nothing was changed.</p>;
  return (
    <div>
      {data.files.map((f) => (
        <FileDiff key={f.path + (f.old_path ?? '')} file={f} findings={edits?.findings ?? NONE} at={at} />
      ))}
    </div>
  );
}
