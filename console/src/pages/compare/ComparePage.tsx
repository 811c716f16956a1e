import { useQuery } from '@tanstack/react-query';
import { useEffect, useMemo, useRef, useState } from 'react';
import { Link, useSearchParams } from 'react-router';

import { service, type Bout, type Comparison } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { lookOf, Pill } from '../../components/Outcome';
import { editValue } from '../../lib/edits';
import { ABSENT, count, duration, reason, visible } from '../../lib/format';
import { useKeys } from '../../lib/keys';
import { money, tokens } from '../../lib/ledger';
import { align } from './align';
import { Columns } from './Columns';

/** The figures that are shown first; the others when they are asked for. */
const FIRST = ['lines_added', 'lines_removed', 'strays', 'noise', 'leftovers', 'losses', 'unused', 'tests_added', 'tests_weakened', 'covered_share', 'repeated_lines', 'size_to_reference', 'nearness_likeness', 'claims_wrong'];

/** Figures that have no places. */
const BARE = /^(size_to_reference|nearness_likeness)$/;

const FACTS: [string, (b: Bout) => React.ReactNode][] = [
  ['Verdict', (b) => (b.verdict ? (b.verdict.outcome === 'passed' ? 'every check passed' : reason(b.verdict.reason, b.verdict.check)) : b.state)],
  ['Rounds', (b) => b.rounds],
  ['Elapsed', (b) => duration(b.elapsed_ms)],
  ['Tokens', (b) => tokens(b.used.tokens ?? null, b.used.at_least)],
  ['Money', (b) => money(b.used.money, b.used.money_at_least)],
];

function Facts({ c }: { c: Comparison }) {
  const [all, setAll] = useState(false);
  const figures = c.figures.filter((f) => (all ? f.differs || f.values.some((v) => v) : FIRST.includes(f.name) && (f.differs || f.values.some((v) => v))));
  const cell = 'px-2 py-0.5 text-right whitespace-nowrap tabular-nums';
  return (
    <Panel
      title="Facts and measures"
      aside={
        <button type="button" className="cursor-pointer text-water underline" onClick={() => setAll(!all)}>
          {all ? 'only the usual figures' : 'all figures'}
        </button>
      }
    >
      <div className={all ? 'max-h-[70vh] overflow-auto' : 'overflow-x-auto'}>
        <table className="w-full text-[13px]">
          <thead className="sticky top-0 bg-sheet">
            <tr>
              <th className="w-48" />
              {c.results.map((r) => (
                <th key={r.name} scope="col" className={`${cell} font-medium`} style={{ width: `${80 / c.results.length}%` }}>
                  {r.bout ? (
                    <>
                      <Link to={`/bouts/${r.bout.id}`}>{r.name}</Link> <Pill look={lookOf(r.bout)}>{r.bout.verdict?.outcome ?? r.bout.state}</Pill>
                    </>
                  ) : (
                    r.name
                  )}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {FACTS.map(([name, of]) => (
              <tr key={name} className="border-t border-line">
                <th scope="row" className="px-3 py-0.5 text-left font-normal text-faint">
                  {name}
                </th>
                {c.results.map((r) => (
                  <td key={r.name} className={cell}>
                    {r.bout ? of(r.bout) : ABSENT}
                  </td>
                ))}
              </tr>
            ))}
            {figures.map((f) => (
              <tr key={f.name} className="border-t border-line" title={f.words}>
                <th scope="row" className="px-3 py-0.5 text-left font-normal text-faint">
                  {f.title}
                </th>
                {c.results.map((r, i) => (
                  <td key={r.name} className={`${cell} ${f.differs ? 'font-medium' : 'text-faint'}`}>
                    {r.bout && f.values[i] && !BARE.test(f.name) ? (
                      <Link className="decoration-dotted underline-offset-2" to={`/bouts/${r.bout.id}?show=change&figure=${f.name}`} title={`${f.words}: show where`}>
                        {editValue(f.unit, f.values[i])}
                      </Link>
                    ) : (
                      editValue(f.unit, f.values[i])
                    )}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {c.notes.length > 0 && (
        <ul className="list-none border-t border-line px-3 py-2 text-xs text-faint">
          {c.notes.map((n) => (
            <li key={n}>Note: {visible(n)}.</li>
          ))}
        </ul>
      )}
    </Panel>
  );
}

const BY: Record<string, string> = { all: 'Touched by all', some: 'Touched by some', one: 'Touched by one', none: 'In the reference alone' };

function Files({ c, chosen, onChoose }: { c: Comparison; chosen: string; onChoose: (path: string) => void }) {
  const here = useRef<HTMLButtonElement>(null);
  const first = useRef(true);
  useEffect(() => {
    if (!first.current) here.current?.scrollIntoView({ block: 'nearest' });
    first.current = false; // the page begins at its top
  }, [chosen]);
  return (
    <nav aria-label="Files" className="max-h-[70vh] overflow-y-auto text-sm">
      {Object.entries(BY).map(([by, title]) => {
        const files = c.files.filter((f) => f.by === by);
        if (files.length === 0) return null;
        return (
          <section key={by} aria-label={title}>
            <h3 className="bg-paper px-3 py-1 text-xs text-faint">{title}</h3>
            {files.map((f) => (
              <button
                key={f.path}
                ref={f.path === chosen ? here : undefined}
                type="button"
                aria-current={f.path === chosen}
                onClick={() => onChoose(f.path)}
                className={`block w-full cursor-pointer px-3 py-1 text-left ${f.path === chosen ? 'bg-water-soft font-medium' : 'hover:bg-water-soft'}`}
              >
                <span className="font-mono text-xs break-all">{visible(f.path)}</span>
                <span className="flex gap-2 text-[11px] text-faint tabular-nums">
                  {f.touched.map((t, i) => (
                    <span key={i} title={c.results[i]?.name}>
                      {t ? `+${f.added[i]} −${f.removed[i]}` : ABSENT}
                    </span>
                  ))}
                </span>
              </button>
            ))}
          </section>
        );
      })}
    </nav>
  );
}

/** Two to four results of a task side by side. */
export function ComparePage() {
  const [search, setSearch] = useSearchParams();
  const bouts = (search.get('bouts') ?? '').split(',').filter(Boolean);
  const reference = search.get('reference') === 'yes';
  const { data: c, error } = useQuery({ queryKey: ['compare', bouts, reference], queryFn: () => service.compare(bouts, reference), enabled: bouts.length > 1 });
  const order = useMemo(() => Object.keys(BY).flatMap((by) => (c?.files ?? []).filter((f) => f.by === by)), [c]);
  const chosen = order.find((f) => f.path === search.get('file'))?.path ?? order[0]?.path ?? '';
  const [change, setChange] = useState({ file: '', n: 0 });
  const n = change.file === chosen ? change.n : 0;
  const lines = useMemo(() => align((c?.results ?? []).map((r) => r.diff.find((f) => f.path === chosen)), (c?.results ?? []).map((r) => r.findings)), [c, chosen]);
  const changes = lines.changes.length;
  const panel = useRef<HTMLDivElement>(null);
  const choose = (path: string) => {
    const next = new URLSearchParams(search);
    next.set('file', path);
    setSearch(next, { replace: true });
  };
  const move = (step: number) => {
    const to = order[order.findIndex((f) => f.path === chosen) + step];
    if (to) choose(to.path);
    panel.current?.scrollIntoView({ block: 'nearest' });
  };
  const go = (to: number) => {
    setChange({ file: chosen, n: Math.max(0, Math.min(to, changes - 1)) });
    panel.current?.scrollIntoView({ block: 'nearest' });
  };
  useKeys({
    j: () => move(1),
    k: () => move(-1),
    n: () => go(n + 1),
    p: () => go(n - 1),
  });
  if (bouts.length < 2) return <p className="py-8">Two to four results are wanted: choose them on the page of a bout, or with agonometer bout compare.</p>;
  if (!c) return <Notice error={error} what="the comparison" />;
  return (
    <>
      <title>{`Results of ${c.task} - Agonometer`}</title>
      <h1 className="mt-1">
        Results of <Link to={`/tasks/${c.task}`}>{c.task}</Link> side by side
      </h1>
      <p className="mb-3 text-sm text-faint">{c.task_title}</p>
      <Facts c={c} />
      <div ref={panel} className="mt-4 grid items-start gap-4 min-[1000px]:grid-cols-[15rem_minmax(0,1fr)]">
        <Panel title="Files" aside={count(c.files.length, 'file')}>
          <Files c={c} chosen={chosen} onChoose={choose} />
        </Panel>
        <Panel
          title={chosen ? visible(chosen) : 'No file'}
          aside={
            <>
              {changes > 0 && <span className="mr-4 tabular-nums">change {n + 1} of {changes}</span>}
              <kbd>j</kbd> <kbd>k</kbd> next and previous file, <kbd>n</kbd> <kbd>p</kbd> next and previous change
            </>
          }
        >
          <Columns key={chosen} names={c.results.map((r) => r.name)} lines={lines} change={n} />
        </Panel>
      </div>
    </>
  );
}
