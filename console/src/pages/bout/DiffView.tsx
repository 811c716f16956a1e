import { useQuery } from '@tanstack/react-query';
import { Collapsible } from 'radix-ui';
import { useState } from 'react';

import { service, type DiffFile } from '../../api/client';
import { Notice } from '../../components/Notice';
import { count, visible } from '../../lib/format';

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

function Lines({ file }: { file: DiffFile }) {
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
            {h.lines.map((l, j) => (
              <tr key={j} className={ROWS[l.kind]}>
                <td className="w-12 px-2 text-right text-faint select-none">{l.old ?? ''}</td>
                <td className="w-12 px-2 text-right text-faint select-none">{l.new ?? ''}</td>
                <td className="w-5 text-center select-none" aria-label={l.kind}>
                  {SIGNS[l.kind]}
                </td>
                <td className="pr-3 whitespace-pre">
                  {visible(l.text)}
                  {l.no_newline && <span className="ml-2 text-faint">(no line end)</span>}
                </td>
              </tr>
            ))}
          </tbody>
        ))}
      </table>
      {file.cut ? <p className="px-3 py-2 text-faint">{count(file.cut, 'more line')} not shown; the whole is at: agonometer bout diff</p> : null}
    </div>
  );
}

/** More lines than this, and a file is shown when it is asked for. */
const LONG = 400;

function FileDiff({ file }: { file: DiffFile }) {
  const [open, setOpen] = useState(file.added + file.removed <= LONG);
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="border-t border-line first:border-0" id={`file-${file.path}`}>
      <h3>
        <Collapsible.Trigger className="flex w-full cursor-pointer items-center gap-3 bg-paper px-3 py-1.5 text-left text-sm">
          <span aria-hidden="true" className="w-3">
            {open ? '▾' : '▸'}
          </span>
          <Name file={file} />
          <span className="ml-auto text-xs whitespace-nowrap text-faint">
            {file.status} · <span className="text-good">+{file.added}</span> <span className="text-bad">−{file.removed}</span>
          </span>
        </Collapsible.Trigger>
      </h3>
      <Collapsible.Content>{open && <Lines file={file} />}</Collapsible.Content>
    </Collapsible.Root>
  );
}

export function DiffView({ id, round }: { id: string; round: string | undefined }) {
  const { data, error } = useQuery({ queryKey: ['diff', id, round], queryFn: () => service.diff(id, round), staleTime: Infinity });
  if (!data) return <Notice error={error} what="the change" />;
  if (data.files.length === 0) return <p className="p-3 text-faint">Nothing was changed.</p>;
  return (
    <div>
      {data.files.map((f) => (
        <FileDiff key={f.path + (f.old_path ?? '')} file={f} />
      ))}
    </div>
  );
}
