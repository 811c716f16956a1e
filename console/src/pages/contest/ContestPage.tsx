import { useMutation, useQueryClient } from '@tanstack/react-query';
import { AlertDialog } from 'radix-ui';
import { useParams } from 'react-router';

import { service } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { Mark, type Look } from '../../components/Outcome';
import { count, when } from '../../lib/format';
import { money, tokens } from '../../lib/ledger';
import { StartByHand } from '../hand/HandsPage';
import { BoutGrid } from './BoutGrid';
import { ByWording, Settings } from './Settings';
import { StandingsTable } from './StandingsTable';
import { useLiveContest } from './useLiveContest';

const LEGEND: [Look, string][] = [
  ['passed', 'passed'],
  ['failed', 'failed'],
  ['void', 'void: counts for nobody'],
  ['running', 'running'],
  ['waiting', 'waiting'],
];

function StopButton({ id }: { id: string }) {
  const queries = useQueryClient();
  const stop = useMutation({ mutationFn: () => service.stopContest(id), onSettled: () => queries.invalidateQueries({ queryKey: ['contest', id] }) });
  const button = 'cursor-pointer rounded border px-3 py-1 text-sm';
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger className={`${button} border-bad/50 text-bad`} disabled={stop.isPending}>
        Stop the contest
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-black/40" />
        <AlertDialog.Content className="fixed top-1/3 left-1/2 w-[min(28rem,90vw)] -translate-x-1/2 rounded border border-line bg-sheet p-5 shadow-xl">
          <AlertDialog.Title>Stop this contest?</AlertDialog.Title>
          <AlertDialog.Description className="mt-2 text-faint">Bouts that have ended stay. Those that run or wait become void and are not run again.</AlertDialog.Description>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel className={`${button} border-line`}>Let it run</AlertDialog.Cancel>
            <AlertDialog.Action className={`${button} border-bad bg-bad text-sheet`} onClick={() => stop.mutate()}>
              Stop it
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

export function ContestPage() {
  const { id = '' } = useParams();
  const { data, error } = useLiveContest(id);
  if (!data) return <Notice error={error} what="the contest" />;
  const { counts } = data;
  const open = data.state !== 'done' && data.state !== 'stopped';
  return (
    <>
      <title>{`${data.title} - Agonometer`}</title>
      <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
        <div>
          <h1>{data.title}</h1>
          <p className="text-xs text-faint">
            <span className="font-mono">{data.name}</span> · {count(data.tasks.length, 'task')} × {count(data.contenders.length, 'contender')} × {count(data.repeats, 'repeat')} ·{' '}
            {data.at_once} at once · seed {data.seed}
            {data.seed_drawn ? ' (drawn)' : ''} · {when(data.created_at)}
          </p>
        </div>
        <div className="ml-auto flex items-center gap-3">
          {data.used.tokens !== null && (
            <p className="tabular-nums text-faint" title={data.used.money ?? undefined}>
              {tokens(data.used.tokens, data.used.at_least)} tokens{data.used.money ? `, ${money(data.used.money, data.used.money_at_least)}` : ''}
              {open ? ' so far' : ''}
            </p>
          )}
          <p role="status" aria-live="polite" data-state={data.state} className="tabular-nums">
            {data.state === 'done' ? `Done: ${count(counts.bouts, 'bout')}` : `${data.state === 'by-hand' ? 'Left to a person' : data.state}: ${counts.done} of ${counts.bouts} done, ${counts.running} running`}
          </p>
          {open && <StopButton id={id} />}
        </div>
      </div>
      {open && (
        <div className="mb-3 h-1.5 overflow-hidden rounded bg-line" role="progressbar" aria-label="Bouts done" aria-valuemin={0} aria-valuemax={counts.bouts} aria-valuenow={counts.done}>
          <div className="h-full bg-water transition-[width]" style={{ width: `${(100 * counts.done) / Math.max(1, counts.bouts)}%` }} />
        </div>
      )}
      <div className={"grid items-start gap-4"}>
        <Panel
          title="Bouts"
          aside={
            <ul className="flex flex-wrap gap-x-3 gap-y-1">
              {LEGEND.map(([look, text]) => (
                <li key={look} className="flex items-center gap-1">
                  <Mark look={look} /> {text}
                </li>
              ))}
            </ul>
          }
        >
          <BoutGrid contest={data} />
        </Panel>
        <Panel title="Standings" className="order-first" aside={data.standings.final ? 'final' : 'so far'}>
          <StandingsTable standings={data.standings} rate={data.hourly_rate} />
        </Panel>
        <StartByHand contest={data} />
        <ByWording contest={data} />
        <Settings contest={data} />
      </div>
    </>
  );
}
