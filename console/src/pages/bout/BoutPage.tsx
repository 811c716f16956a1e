import { useQuery } from '@tanstack/react-query';
import { Tabs } from 'radix-ui';
import { Link, useParams, useSearchParams } from 'react-router';

import { service, type BoutDetail } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { lookOf, Pill } from '../../components/Outcome';
import { ABSENT, bytes, count, duration, reason, visible, when } from '../../lib/format';
import { usedWords } from '../../lib/ledger';
import { Output } from './Checks';
import { CompareWith } from './CompareWith';
import { DiffView } from './DiffView';
import { EditsView } from './Edits';
import { TimeAndTokens } from './Ledger';
import { effortWords, MarkList } from './Person';
import { RoundView, Steps } from './Rounds';

function Fact({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <div className="flex gap-3 border-t border-line px-3 py-1.5 first:border-0">
      <dt className="w-28 shrink-0 text-faint">{name}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </div>
  );
}

function ended(b: BoutDetail): string {
  if (b.limit) return `stopped: ${reason(b.limit, undefined)}`;
  if (b.signal) return `by a signal: ${b.signal}`;
  return b.exit_code === null ? ABSENT : `exit status ${b.exit_code}`;
}

function leftOut(b: BoutDetail): string {
  const l = b.left_out;
  if (!l) return ABSENT;
  const parts: [number, string][] = [
    [l.ignored, "ignored by the repository's rules"],
    [l.too_large.length, 'too large'],
    [l.special, 'neither file nor link'],
    [l.unreadable, 'unreadable'],
    [l.nested_git, 'nested .git'],
    [l.in_submodules, 'in submodules'],
    [l.struck, 'with a kept key struck out'],
  ];
  const words = parts.filter(([n]) => n > 0).map(([n, what]) => `${n} ${what}`);
  return words.length > 0 ? words.join(', ') : 'nothing';
}

function Facts({ b }: { b: BoutDetail }) {
  const f = b.footprint;
  return (
    <dl className="text-sm">
      <Fact name="Driven">
        {DRIVEN[b.driver] ?? b.driver}
        {b.hand?.worker ? `, by ${visible(b.hand.worker)}` : ''}
        {b.hand?.familiarity ? ` (used to the tool: ${visible(b.hand.familiarity)})` : ''}
      </Fact>
      {b.wording && <Fact name="Wording">{b.wording}</Fact>}
      {b.tool_version && <Fact name="Tool says">{visible(b.tool_version)}</Fact>}
      <Fact name="Elapsed">{duration(b.elapsed_ms)}</Fact>
      <Fact name="Person">{b.effort ? effortWords(b.effort) : b.state === 'done' ? 'not known' : ABSENT}</Fact>
      <Fact name="Tool ended">{ended(b)}</Fact>
      <Fact name="Change">{f ? `${count(f.files, 'file')}, +${f.lines_added} −${f.lines_removed} lines` : ABSENT}</Fact>
      <Fact name="Used">
        <span title={b.used.money ?? undefined}>{usedWords(b.used)}</span>
      </Fact>
      {b.flags.length > 0 && (
        <Fact name="Flags">
          {b.flags.map((f) => (
            <div key={f} className="text-lamp">
              {visible(f)}
            </div>
          ))}
        </Fact>
      )}
      <Fact name="First edit">{duration(b.first_edit_ms)}</Fact>
      {b.network && <Fact name="Network">{b.network === 'meter-only' ? 'meter-only: nothing but its model service' : 'open: what the tool looked up is not known'}</Fact>}
      {b.cold !== null && <Fact name="Start">{b.cold ? 'cold: nothing in a cache' : 'warm: found tokens in a cache'}</Fact>}
      {b.machine && (
        <Fact name="Machine">
          {b.overloaded && <strong className="text-lamp">overloaded: </strong>}
          load up to {b.machine.load.toFixed(2)} on {count(b.machine.cpus, 'CPU')}
          {b.machine.waiting === null ? '' : `, something waited for a CPU ${Math.round(100 * b.machine.waiting)}% of the time`}
        </Fact>
      )}
      <Fact name="Left out">{leftOut(b)}</Fact>
      <Fact name="Confinement">
        {b.confinement === '' ? ABSENT : b.unconfined ? <strong className="text-lamp">unconfined: {b.confinement_why}</strong> : `namespaces${b.confinement_why === '' ? '' : `, walls ${b.confinement_why}`}`}
      </Fact>
      {b.beside > 0 && <Fact name="Beside">up to {count(b.beside, 'other bout')}; times may have suffered</Fact>}
      <Fact name="Harness">
        workspace {duration(b.costs.workspace_ms)}, HOME {duration(b.costs.home_ms)} ({bytes(b.costs.home_bytes)}
        {b.costs.home_layered ? ', layered, not copied' : ''}), capture {duration(b.costs.capture_ms)}, judging copy{' '}
        {duration(b.costs.judge_copy_ms)}
      </Fact>
      {b.tries.map((t) => (
        <Fact key={t.id} name={t.rerun === 0 ? 'First try' : `Rerun ${t.rerun}`}>
          <Link to={`/bouts/${t.id}`}>{t.verdict ? `${t.verdict.outcome}, ${reason(t.verdict.reason, t.verdict.check)}` : t.state}</Link>
        </Fact>
      ))}
      <History b={b} />
      {b.kept && <Fact name="Kept at">{b.kept}</Fact>}
      <Fact name="Bout">
        <span className="font-mono text-xs">{b.id}</span>
      </Fact>
    </dl>
  );
}

const DRIVEN: Record<string, string> = { command: 'by a command', acp: 'over the Agent Client Protocol', hand: 'worked by hand', elsewhere: 'made elsewhere' };

function ToolLog({ b, round }: { b: BoutDetail; round: string | undefined }) {
  const { data, error } = useQuery({ queryKey: ['log', b.id, b.state, round], queryFn: () => service.log(b.id, round) });
  if (data === undefined) return <Notice error={error} what="the log" />;
  const last = round === undefined ? b.round_list.at(-1) : b.round_list.find((r) => String(r.number) === round);
  return (
    <>
      {last?.has_recording && (
        <p className="px-3 pt-2 text-xs">
          It ran in a terminal: <a href={service.recordingHref(b.id, last.number)}>the recording</a> (asciicast, version 2). Below is its plain text.
        </p>
      )}
      <Output text={data} cut={b.log_cut} />
    </>
  );
}

const TABS = ['checks', 'time', 'edits', 'change', 'log'] as const;
const TAB_NAMES = { checks: 'Judgement', time: 'Time and tokens', edits: 'Edits', change: 'Change', log: 'What the tool printed' };

/** The verdict's own words about what was judged more than once, or made elsewhere. */
function History({ b }: { b: BoutDetail }) {
  return (
    <>
      {b.import && (
        <Fact name="Made elsewhere">
          from a {b.import.from}: {visible(b.import.source)}
          {b.import.notes && <div className="whitespace-pre-wrap text-faint">{visible(b.import.notes)}</div>}
        </Fact>
      )}
      {b.judgements.length > 1 &&
        b.judgements.map((j) => (
          <Fact key={j.id} name={j.used ? 'Judgement used' : 'Earlier one'}>
            {j.verdict.outcome}, {reason(j.verdict.reason, j.verdict.check)}
            <div className="text-xs text-faint">
              {when(j.at)}
              {j.rejudging_id ? ', from the stored change' : ''}
            </div>
          </Fact>
        ))}
    </>
  );
}

export function BoutPage() {
  const { id = '' } = useParams();
  const [search, setSearch] = useSearchParams();
  const { data: b, error } = useQuery({ queryKey: ['bout', id], queryFn: () => service.bout(id), refetchInterval: (q) => (q.state.data && q.state.data.state !== 'done' ? 1000 : false) });
  if (!b) return <Notice error={error} what="the bout" />;
  const v = b.verdict;
  const rounds = b.round_list;
  const chosen = rounds.find((r) => String(r.number) === search.get('round')) ?? rounds.at(-1);
  const round = chosen && chosen !== rounds.at(-1) ? String(chosen.number) : undefined;
  const show = (changes: Record<string, string | undefined>) => {
    const next: Record<string, string> = {};
    for (const [k, v] of Object.entries({ show: search.get('show') ?? undefined, round: search.get('round') ?? undefined, at: undefined, figure: undefined, ...changes })) if (v) next[k] = v;
    setSearch(next, { replace: true });
  };
  const tab = TABS.find((t) => t === search.get('show')) ?? 'checks';
  return (
    <>
      <title>{`${b.contender} on ${b.task} - Agonometer`}</title>
      <nav aria-label="Where this is" className="text-xs">
        <Link to={`/contests/${b.contest_id}`}>← {b.contest_name}</Link>
      </nav>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
        <div>
          <h1>
            {b.contender} on <Link to={`/tasks/${b.task}`}>{b.task}</Link> <span className="font-normal text-faint">repeat {b.repeat}</span>
          </h1>
          <p className="text-sm text-faint">{b.task_title}</p>
        </div>
        <div className="ml-auto text-right">
          <Pill look={lookOf(b)}>{v ? v.outcome : b.state}</Pill>{' '}
          <span className="text-sm">
            {v ? reason(v.reason, v.check) : b.doing}
            {v?.stage ? `, in ${v.stage}` : ''}
            {v?.detail ? `: ${visible(v.detail)}` : ''}
          </span>
          {b.first && b.rounds > 1 && (
            <div className="text-xs text-faint">
              First time: {b.first.outcome}. In the end: {v?.outcome}, after {count(b.rounds, 'round')}.
            </div>
          )}
          {v?.notes?.map((n) => (
            <div key={n} className="text-xs text-lamp">
              {n}
            </div>
          ))}
        </div>
      </div>
      {b.hand && b.state !== 'done' && (
        <p className="mb-3">
          A person works this bout: <Link to={`/hand/${b.id}`}>to its clock</Link>
        </p>
      )}
      {rounds.length > 1 && <Steps rounds={rounds} chosen={chosen?.number ?? 0} onChoose={(n) => show({ round: n === rounds.at(-1)?.number ? undefined : String(n) })} />}
      <div className="grid items-start gap-4 min-[1000px]:grid-cols-[20rem_minmax(0,1fr)]">
        <Panel title="Facts">
          <Facts b={b} />
          <CompareWith b={b} />
        </Panel>
        <Tabs.Root value={tab} onValueChange={(t) => show({ show: t === 'checks' ? undefined : t })} className="min-w-0 rounded border border-line bg-sheet">
          <Tabs.List aria-label="What to show" className="flex gap-1 border-b border-line px-2 pt-1">
            {TABS.map((t) => (
              <Tabs.Trigger
                key={t}
                value={t}
                className="cursor-pointer border-b-2 border-transparent px-3 py-2 text-sm text-faint data-[state=active]:border-water data-[state=active]:font-medium data-[state=active]:text-ink"
              >
                {TAB_NAMES[t]}
              </Tabs.Trigger>
            ))}
          </Tabs.List>
          <Tabs.Content value="checks">
            {chosen ? (
              <RoundView bout={b} round={chosen} key={chosen.number} />
            ) : (
              <p className="p-3 text-faint">{b.state === 'done' ? 'Nothing was judged: nothing was captured.' : 'Not judged yet.'}</p>
            )}
          </Tabs.Content>
          <Tabs.Content value="time">
            <TimeAndTokens bout={b} />
            {b.marks.length > 0 && <MarkList marks={b.marks} />}
          </Tabs.Content>
          <Tabs.Content value="edits">
            <EditsView id={b.id} round={round} onShow={(f) => show({ show: 'change', at: f.id })} onFigure={(name) => show({ show: 'change', figure: name })} />
          </Tabs.Content>
          <Tabs.Content value="change">
            {b.captured_at ? (
              <DiffView id={b.id} round={round} at={search.get('at')} figure={search.get('figure')} onEnd={() => show({})} />
            ) : (
              <p className="p-3 text-faint">Nothing has been captured{b.state === 'done' ? '' : ' yet'}.</p>
            )}
          </Tabs.Content>
          <Tabs.Content value="log">
            <ToolLog b={b} round={round} />
          </Tabs.Content>
        </Tabs.Root>
      </div>
    </>
  );
}
