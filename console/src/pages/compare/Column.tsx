import { useEffect, useRef, useState } from 'react';

import type { DiffFile, EditFinding } from '../../api/client';
import { byLine } from '../../lib/edits';
import { visible } from '../../lib/format';
import { LineMarks, marksOf } from '../bout/DiffView';

type Line = DiffFile['hunks'][number]['lines'][number];

interface Row {
  heading?: string;
  line?: Line;
  found?: EditFinding[] | undefined;
}

/** A file of one result as rows of one height, and where its changes begin. */
export interface Rows {
  rows: Row[];
  changes: number[];
  whole: EditFinding[] | undefined;
  /** What stands there where there are no rows. */
  words: string;
}

export function rowsOf(file: DiffFile | undefined, findings: EditFinding[]): Rows {
  if (!file) return { rows: [], changes: [], whole: undefined, words: 'does not touch it' };
  const marks = byLine(findings, file.path, file.old_path);
  const rows: Row[] = [];
  const changes: number[] = [];
  for (const h of file.hunks) {
    rows.push({ heading: h.heading });
    let inside = false;
    for (const line of h.lines) {
      const changed = line.kind !== 'context';
      if (changed && !inside) changes.push(rows.length);
      inside = changed;
      rows.push({ line, found: marksOf(marks, line) });
    }
  }
  if (file.cut) rows.push({ heading: `${file.cut} more lines are not shown` });
  const words = file.binary ? 'a binary file' : file.status === 'mode' ? `only the mode changed: ${file.old_mode} → ${file.new_mode}` : rows.length === 0 ? `${file.status}, no lines changed` : '';
  return { rows, changes, whole: marks.get('file'), words };
}

const HEIGHT = 20;
const VIEW = 560;
const SPARE = 20;
const LOOK: Record<string, string> = { added: 'bg-good-soft', removed: 'bg-bad-soft', context: '' };
const SIGN: Record<string, string> = { added: '+', removed: '−', context: ' ' };

/** One result's change of a file. Only the rows that can be seen are drawn. */
export function Column({ name, rows, change }: { name: string; rows: Rows; change: number }) {
  const box = useRef<HTMLDivElement>(null);
  const [top, setTop] = useState(0);
  const at = rows.changes[Math.min(change, rows.changes.length - 1)];
  useEffect(() => {
    if (at !== undefined) box.current?.scrollTo({ top: Math.max(0, (at - 3) * HEIGHT) });
  }, [at]);
  const first = Math.max(0, Math.floor(top / HEIGHT) - SPARE);
  const last = Math.min(rows.rows.length, Math.ceil((top + VIEW) / HEIGHT) + SPARE);
  return (
    <section aria-label={name} className="min-w-0 border-l border-line first:border-0">
      <h3 className="flex items-baseline gap-2 border-b border-line bg-paper px-3 py-1 text-sm font-medium">
        {name} <LineMarks findings={rows.whole} />
        {rows.changes.length > 0 && (
          <span className="ml-auto text-xs font-normal text-faint">
            {Math.min(change, rows.changes.length - 1) + 1} of {rows.changes.length}
          </span>
        )}
      </h3>
      {rows.rows.length === 0 ? (
        <p className="px-3 py-2 text-sm text-faint">{rows.words}</p>
      ) : (
        <div ref={box} tabIndex={0} role="region" aria-label={`Lines of ${name}`} className="overflow-auto font-mono text-xs" style={{ maxHeight: VIEW }} onScroll={(e) => setTop(e.currentTarget.scrollTop)}>
          <div style={{ height: rows.rows.length * HEIGHT, position: 'relative', minWidth: 'max-content' }}>
            <div style={{ transform: `translateY(${first * HEIGHT}px)` }}>
              {rows.rows.slice(first, last).map((r, i) =>
                r.line ? (
                  <div key={first + i} data-row={first + i} className={`flex whitespace-pre ${LOOK[r.line.kind]} ${first + i === at ? 'outline outline-lamp' : ''}`} style={{ height: HEIGHT, lineHeight: `${HEIGHT}px` }}>
                    <span className="w-9 shrink-0 pr-1 text-right text-faint select-none">{r.line.new ?? r.line.old}</span>
                    <span className="w-4 shrink-0 text-center select-none" aria-label={r.line.kind}>
                      {SIGN[r.line.kind]}
                    </span>
                    <span className="pr-2">
                      {visible(r.line.text)}
                      <LineMarks findings={r.found} />
                    </span>
                  </div>
                ) : (
                  <div key={first + i} className="truncate bg-water-soft px-2 text-faint" style={{ height: HEIGHT, lineHeight: `${HEIGHT}px` }}>
                    @@ {visible(r.heading ?? '')}
                  </div>
                ),
              )}
            </div>
          </div>
        </div>
      )}
    </section>
  );
}
