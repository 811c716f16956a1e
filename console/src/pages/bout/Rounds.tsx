import { Accordion, Collapsible } from 'radix-ui';

import type { BoutDetail, Round, TestRow } from '../../api/client';
import { Pill, type Look } from '../../components/Outcome';
import { ABSENT, count, duration, reason, visible } from '../../lib/format';
import { Checks } from './Checks';

const KINDS: Record<string, string> = { opening: 'Opening', repair: 'Repair', 'follow-up': 'Follow-up' };

/** The rounds of a bout as steps; choosing one shows its judgement and change. */
export function Steps({ rounds, chosen, onChoose }: { rounds: Round[]; chosen: number; onChoose: (n: number) => void }) {
  return (
    <ol aria-label="Rounds" className="mb-3 flex flex-wrap items-stretch gap-2">
      {rounds.map((r) => (
        <li key={r.number}>
          <button
            type="button"
            aria-pressed={r.number === chosen}
            onClick={() => onChoose(r.number)}
            className="flex h-full cursor-pointer items-center gap-2 rounded border border-line bg-sheet px-3 py-1.5 text-left aria-pressed:border-water aria-pressed:ring-1 aria-pressed:ring-water"
          >
            <span className="flex size-6 items-center justify-center rounded-full bg-water-soft text-xs font-semibold tabular-nums">{r.number}</span>
            <span>
              <span className="block text-sm font-medium">
                {KINDS[r.kind] ?? r.kind}
                {r.stage_name ? `: ${r.stage_name}` : ''}
              </span>
              <span className="block text-xs text-faint">
                {duration(r.elapsed_ms)}
                {r.step ? `, +${r.step.lines_added} −${r.step.lines_removed}` : ''}
              </span>
            </span>
            {r.verdict && <Pill look={r.verdict.outcome as Look}>{r.verdict.outcome}</Pill>}
          </button>
        </li>
      ))}
    </ol>
  );
}

const WORDS: Record<string, string> = { '': ABSENT };

function Turn({ row }: { row: TestRow }) {
  const look = (outcome: string): string =>
    outcome === 'passed' ? 'text-good' : outcome === 'failed' ? 'text-bad' : outcome === 'missing' ? 'text-bad' : 'text-faint';
  return (
    <span className="inline-grid w-40 shrink-0 grid-cols-[1fr_1.2rem_1fr] text-xs">
      <span className="text-faint">{WORDS[row.before] ?? row.before}</span>
      <span aria-hidden="true" className="text-faint">
        →
      </span>
      <span className={`font-medium ${look(row.after)}`}>{WORDS[row.after] ?? row.after}</span>
    </span>
  );
}

function flags(r: TestRow): string {
  const out: string[] = [];
  if (r.unsteady) out.push('unsteady: passed when run again');
  if (r.repeated) out.push('reported more than once');
  if (r.unexpected) out.push('from nowhere');
  if (r.role === 'guard' && r.own === 'missing') out.push("gone from the contender's tests");
  if (r.role === 'guard' && r.own === 'skipped') out.push("skipped in the contender's tests");
  return out.join(', ');
}

/** A group of tests: outcome before and after, and what each said one key away. */
function Tests({ title, about, rows }: { title: string; about: string; rows: TestRow[] }) {
  if (rows.length === 0) return null;
  return (
    <section aria-label={title} className="border-t border-line first:border-0">
      <h3 className="px-3 pt-2 text-sm font-semibold">
        {title} <span className="font-normal text-faint">{about}</span>
      </h3>
      <Accordion.Root type="multiple" className="pb-1">
        {rows.map((r) => {
          const name = r.name || r.check;
          return (
            <Accordion.Item key={r.check + r.name} value={r.check + r.name}>
              <Accordion.Header>
                <Accordion.Trigger disabled={!r.message} className="group flex w-full cursor-pointer items-baseline gap-2 px-3 py-1 text-left enabled:hover:bg-paper disabled:cursor-default">
                  <span aria-hidden="true" className="w-3 transition-transform group-disabled:invisible group-data-[state=open]:rotate-90">
                    ▸
                  </span>
                  <Turn row={r} />
                  <span className="min-w-0 font-mono text-xs break-all">{visible(name)}</span>
                  <span className="ml-auto pl-2 text-right text-xs text-lamp">{flags(r)}</span>
                </Accordion.Trigger>
              </Accordion.Header>
              <Accordion.Content>
                {/* A long text scrolls, so it must be reachable by keyboard. */}
                <pre tabIndex={0} className="mx-3 mb-2 max-h-72 overflow-auto border-l-2 border-bad/40 bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
                  {visible(r.message ?? '')}
                </pre>
              </Accordion.Content>
            </Accordion.Item>
          );
        })}
      </Accordion.Root>
    </section>
  );
}

function List({ title, about, items }: { title: string; about?: string | undefined; items: string[] }) {
  if (items.length === 0) return null;
  return (
    <section aria-label={title} className="border-t border-line px-3 py-2 first:border-0">
      <h3 className="text-sm font-semibold">
        {title} {about && <span className="font-normal text-faint">{about}</span>}
      </h3>
      <ul className="list-disc pl-5 font-mono text-xs">
        {items.map((w) => (
          <li key={w} className="py-0.5 break-words">
            {visible(w)}
          </li>
        ))}
      </ul>
    </section>
  );
}

function Facts({ round }: { round: Round }) {
  if (round.facts.length === 0) return null;
  return (
    <section aria-label="Facts of the reply" className="border-t border-line px-3 py-2 first:border-0">
      <h3 className="text-sm font-semibold">
        Facts <span className="font-normal text-faint">that the reply was to hold</span>
      </h3>
      <ul>
        {round.facts.map((f) => (
          <li key={f.fact} className="flex items-baseline gap-2 py-0.5">
            <Pill look={f.reached ? 'passed' : 'failed'}>{f.reached ? 'reached' : 'missed'}</Pill>
            <span className="font-medium">{f.fact}</span>
            <span className="text-xs text-faint">{visible(f.words)}</span>
          </li>
        ))}
      </ul>
      <pre tabIndex={0} aria-label="The reply" className="mt-2 max-h-72 overflow-auto border-l-2 border-line bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
        {visible(round.answer)}
      </pre>
    </section>
  );
}

function figureWords(f: Round['figures'][number]): string {
  if (f.median === null) return `no figure: ${f.trouble ?? ''}`;
  const n = (v: number | null) => (v === null ? ABSENT : String(Math.round(v * 1000) / 1000));
  const parts = [`${n(f.median)} ${f.unit}`];
  if (f.repeats > 1) parts.push(`${n(f.lowest)} to ${n(f.highest)} in ${f.repeats} runs`);
  if (f.start_ratio !== null) parts.push(`${n(f.start_ratio)} × the start's`);
  if (f.reference_ratio !== null) parts.push(`${n(f.reference_ratio)} × the reference's`);
  if (f.bound) parts.push(`wanted: ${f.bound}, ${f.reached ? 'reached' : 'missed'}`);
  return parts.join(' · ');
}

/** How many goals were reached, drawn and in words. */
function Goals({ reached, total }: { reached: number; total: number }) {
  return (
    <span className="flex items-center gap-2">
      <svg viewBox="0 0 100 8" className="h-2 w-25" aria-hidden="true">
        <rect width="100" height="8" rx="4" className="fill-line" />
        <rect width={(100 * reached) / Math.max(1, total)} height="8" rx="4" className="fill-good" />
      </svg>
      {reached} of {count(total, 'goal')} reached
    </span>
  );
}

/** One round: what was handed over, and what judging found. */
export function RoundView({ bout, round }: { bout: BoutDetail; round: Round }) {
  const v = round.verdict;
  const rows = round.tests;
  const missed = rows.filter((r) => r.role === 'goal' && r.after !== 'passed');
  const reached = rows.filter((r) => r.role === 'goal' && r.after === 'passed');
  const broken = rows.filter((r) => r.role === 'guard' && r.after !== 'passed' && !r.unsteady);
  const own = rows.filter((r) => r.role === 'own');
  const odd = rows.filter((r) => r.role !== 'own' && r.role !== 'goal' && !broken.includes(r) && flags(r) !== '');
  return (
    <div>
      {v && (
        <div className="flex flex-wrap items-center gap-x-4 gap-y-1 border-b border-line px-3 py-2 text-sm">
          <Pill look={v.outcome as Look}>{v.outcome}</Pill>
          <span>{reason(v.reason, v.check)}</span>
          {v.goals && v.goals.total > 0 && <Goals reached={v.goals.reached} total={v.goals.total} />}
          {round.guards && round.guards.total > 0 && (
            <span className="text-faint">
              {round.guards.reached} of {count(round.guards.total, 'guard')} kept
            </span>
          )}
        </div>
      )}
      {round.kind !== 'opening' && (
        <Collapsible.Root className="border-b border-line px-3 py-2" defaultOpen={round.words.length < 200}>
          <Collapsible.Trigger className="group cursor-pointer text-sm">
            <span aria-hidden="true" className="inline-block w-3 transition-transform group-data-[state=open]:rotate-90">
              ▸
            </span>{' '}
            What was handed over
          </Collapsible.Trigger>
          <Collapsible.Content>
            <pre tabIndex={0} className="mt-1 max-h-72 overflow-auto bg-paper p-2 font-mono text-xs whitespace-pre-wrap">
              {visible(round.words)}
            </pre>
          </Collapsible.Content>
        </Collapsible.Root>
      )}
      <Tests title="Goals missed" about="wanted, and not there" rows={missed} />
      <Tests title="Guards broken" about="passed at the start, and do not pass any more" rows={broken} />
      <Tests title="Goals reached" about="" rows={reached} />
      <Facts round={round} />
      <List title="Figures" items={round.figures.map((f) => `${f.check}: ${figureWords(f)}`)} />
      <List title="Weakened tests" about={round.put_back.length > 0 ? 'put back for judging' : undefined} items={v?.weakened ?? []} />
      <Tests title="Other remarks" about="on tests that decide nothing here" rows={odd} />
      <Tests title="Own tests" about="added by the contender; they decide nothing" rows={own} />
      <List title="Left out" about="test files that the contender added" items={round.left_out} />
      <List
        title="Canaries"
        about="tests added to a result that passed, which must fail: whether each check saw that"
        items={Object.entries(round.canaries ?? {}).map(([check, became]) => `${check}: ${became}`)}
      />
      {round.checks.length > 0 ? (
        <section aria-label="Checks" className="border-t border-line">
          <h3 className="px-3 pt-2 text-sm font-semibold">Checks</h3>
          <Checks bout={bout.id} checks={round.checks} />
        </section>
      ) : (
        round.facts.length === 0 && <p className="p-3 text-faint">{bout.state === 'done' ? 'No check was run: there was no change.' : 'Not judged yet.'}</p>
      )}
    </div>
  );
}
