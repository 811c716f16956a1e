import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useNavigate } from 'react-router';

import { service, type Bout, type ContestDetail } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { clock, count, visible } from '../../lib/format';

export const PHASES: Record<string, string> = {
  preparing: 'its workspace is being made',
  ready: 'ready: the clock has not been started',
  running: 'the clock is running',
  paused: 'paused',
  judging: 'being judged',
  offered: 'judged: not there yet',
  over: 'over',
};

const WHO = 'agonometer-worker';

function remembered(): { worker: string; familiarity: string } {
  try {
    return { worker: '', familiarity: '', ...(JSON.parse(localStorage.getItem(WHO) ?? '{}') as object) };
  } catch {
    return { worker: '', familiarity: '' };
  }
}

/** The bouts of a contest that are left to a person, in the order that it wants. */
export function waitingByHand(contest: ContestDetail): Bout[] {
  return contest.bouts.filter((b) => b.driver === 'hand' && b.state === 'waiting').sort((a, b) => a.rerun - b.rerun || a.position - b.position);
}

/** Starts a bout by hand, with who works the tool. */
export function StartByHand({ contest }: { contest: ContestDetail }) {
  const go = useNavigate();
  const queries = useQueryClient();
  const [who, setWho] = useState(remembered);
  const start = useMutation({
    mutationFn: (b: Bout) => {
      localStorage.setItem(WHO, JSON.stringify(who));
      return service.startHand({ contest: contest.id, task: b.task, contender: b.contender, ...who });
    },
    onSuccess: async (h) => {
      await queries.invalidateQueries({ queryKey: ['contest', contest.id] });
      await go(`/hand/${h.bout.id}`);
    },
  });
  const left = waitingByHand(contest);
  if (left.length === 0) return null;
  const field = 'mt-0.5 block w-full rounded border border-line bg-paper px-2 py-1';
  return (
    <Panel title="Left to a person" aside={count(left.length, 'bout')}>
      <div className="grid gap-3 p-3 text-sm sm:grid-cols-2">
        <label>
          Who works the tool
          <input className={field} value={who.worker} maxLength={100} onChange={(e) => setWho({ ...who, worker: e.target.value })} />
        </label>
        <label>
          How used to it
          <input className={field} value={who.familiarity} maxLength={100} placeholder="first time, a week, daily for a year" onChange={(e) => setWho({ ...who, familiarity: e.target.value })} />
        </label>
      </div>
      <ol>
        {left.map((b, i) => (
          <li key={b.id} className="flex items-center gap-3 border-t border-line px-3 py-2">
            <span className="tabular-nums text-faint">{i + 1}</span>
            <span>
              <strong className="font-medium">{b.contender}</strong> on {b.task}
              {b.wording ? ` (${b.wording})` : ''}, repeat {b.repeat}
            </span>
            <button
              type="button"
              disabled={start.isPending}
              onClick={() => start.mutate(b)}
              className={`ml-auto cursor-pointer rounded border px-3 py-1 disabled:opacity-60 ${i === 0 ? 'border-water bg-water text-sheet' : 'border-line'}`}
            >
              {i === 0 ? 'Work it' : 'Work it out of order'}
            </button>
          </li>
        ))}
      </ol>
      {start.error && (
        <p role="alert" className="border-t border-line p-3 text-bad">
          {start.error.message}
        </p>
      )}
    </Panel>
  );
}

/** All bouts that persons are working on. */
export function HandsPage() {
  const { data, error } = useQuery({ queryKey: ['hands'], queryFn: service.hands, refetchInterval: 2000 });
  if (!data) return <Notice error={error} what="the bouts by hand" />;
  return (
    <>
      <title>By hand - Agonometer</title>
      <h1 className="mb-3">Bouts worked by hand</h1>
      {data.length === 0 ? (
        <div className="rounded border border-dashed border-line bg-sheet p-6">
          <p>Nobody is working on a bout. A contest whose contenders have drive: hand offers its bouts on its page; one outside a contest starts in a terminal:</p>
          <pre className="mt-3 rounded bg-paper p-3 font-mono">agonometer hand start --task TASK.md --contender CONTENDER.yaml</pre>
        </div>
      ) : (
        <ul className="rounded border border-line bg-sheet">
          {data.map((h) => (
            <li key={h.bout.id} className="flex flex-wrap items-center gap-x-4 border-t border-line px-3 py-3 first:border-0">
              <span className="w-28 text-2xl tabular-nums">{clock(h.worked_us)}</span>
              <Link to={`/hand/${h.bout.id}`} className="font-medium">
                {h.bout.contender} on {h.bout.task}
              </Link>
              <span className="text-faint">
                {PHASES[h.bout.hand?.phase ?? ''] ?? ''}
                {h.bout.hand?.worker ? `, ${visible(h.bout.hand.worker)}` : ''}
              </span>
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
