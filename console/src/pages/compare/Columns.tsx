import { useEffect, useRef, useState } from 'react';

import { count, visible } from '../../lib/format';
import { LineMarks } from '../bout/DiffView';
import type { Aligned, Cell } from './align';

const HEIGHT = 20;
const VIEW = 560;
/** Rows are drawn in pages of this many: those in view, and one more on either side. */
const PAGE = 20;
const TAB = ' '.repeat(8);
const LOOK: Record<string, string> = { added: 'bg-good-soft', removed: 'bg-bad-soft', context: '' };
const SIGN: Record<string, string> = { added: '+', removed: '−', context: ' ' };

function Line({ cell }: { cell: Cell | null | undefined }) {
  if (!cell) return <span className="block h-full bg-paper" />;
  return (
    <>
      <span className="w-9 shrink-0 pr-1 text-right text-faint select-none">{cell.number}</span>
      <span className="w-4 shrink-0 text-center select-none" aria-label={cell.own ? cell.kind : 'as it was'}>
        {SIGN[cell.kind]}
      </span>
      <span className="pr-2">
        {visible(cell.text)}
        <LineMarks findings={cell.found} />
      </span>
    </>
  );
}

/** The changes of one file next to each other. They scroll as one, and only the rows that can be seen are drawn. */
export function Columns({ names, lines, change }: { names: string[]; lines: Aligned; change: number }) {
  const boxes = useRef<(HTMLDivElement | null)[]>([]);
  const [page, setPage] = useState(0);
  const here = lines.changes[change];
  useEffect(() => {
    if (here) boxes.current.find((b) => b !== null)?.scrollTo({ top: Math.max(0, (here.from - 3) * HEIGHT) });
  }, [here]);
  const follow = (box: HTMLDivElement) => {
    for (const other of boxes.current) {
      if (other && (other.scrollTop !== box.scrollTop || other.scrollLeft !== box.scrollLeft)) other.scrollTo({ top: box.scrollTop, left: box.scrollLeft });
    }
    setPage(Math.floor(box.scrollTop / HEIGHT / PAGE));
  };
  const first = Math.max(0, (page - 1) * PAGE);
  const last = Math.min(lines.rows.length, (page + 2) * PAGE + Math.ceil(VIEW / HEIGHT));
  // As long as the longest line of any of them: else what is scrolled sideways would part.
  const width = 8 + lines.rows.reduce((most, r) => r.cells.reduce((m, c) => Math.max(m, c ? c.text.replaceAll('\t', TAB).length : 0), most), 0);
  return (
    <div className="grid" style={{ gridTemplateColumns: `repeat(${names.length}, minmax(0, 1fr))` }}>
      {names.map((name, i) => {
        const head = lines.heads[i];
        return (
          <section key={name} aria-label={name} className="min-w-0 border-l border-line first:border-0">
            <h3 className="flex items-baseline gap-2 border-b border-line bg-paper px-3 py-1 text-sm font-medium">
              {name} <LineMarks findings={head?.whole} />
              {head && (head.words || head.cut > 0) && <span className="text-xs font-normal text-faint">{head.words || `${count(head.cut, 'more line')} not shown`}</span>}
            </h3>
            {lines.rows.length > 0 && (
              <div
                ref={(box) => {
                  boxes.current[i] = box;
                }}
                tabIndex={0}
                role="region"
                aria-label={`Lines of ${name}`}
                className="overflow-auto font-mono text-xs"
                style={{ maxHeight: VIEW }}
                onScroll={(e) => follow(e.currentTarget)}
              >
                <div style={{ height: lines.rows.length * HEIGHT, position: 'relative', width: `max(100%, calc(${width}ch + 6rem))` }}>
                  <div style={{ transform: `translateY(${first * HEIGHT}px)` }}>
                    {lines.rows.slice(first, last).map((r, k) => {
                      const row = first + k;
                      const cell = r.cells[i];
                      const inChange = here !== undefined && row >= here.from && row < here.to;
                      if (r.heading !== undefined)
                        return (
                          <div key={row} className="truncate bg-water-soft px-2 text-faint" style={{ height: HEIGHT, lineHeight: `${HEIGHT}px` }}>
                            @@ {visible(r.heading)}
                          </div>
                        );
                      return (
                        <div
                          key={row}
                          data-row={row}
                          className={`flex border-l-4 whitespace-pre ${inChange ? 'border-lamp' : 'border-transparent'} ${cell ? LOOK[cell.kind] : 'bg-paper'} ${cell && !cell.own ? 'text-faint' : ''}`}
                          style={{ height: HEIGHT, lineHeight: `${HEIGHT}px` }}
                        >
                          <Line cell={cell} />
                        </div>
                      );
                    })}
                  </div>
                </div>
              </div>
            )}
          </section>
        );
      })}
    </div>
  );
}
