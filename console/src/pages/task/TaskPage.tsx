import { useQuery } from '@tanstack/react-query';
import { Link, useParams } from 'react-router';

import { service, type Bout, type Proving } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { lookOf, Pill } from '../../components/Outcome';
import { count, duration, reason, visible, when } from '../../lib/format';
import { DropPatch } from './DropPatch';
import { Proved } from './Proved';

function Proof({ proving }: { proving: Proving }) {
  const r = proving.result;
  return (
    <>
      <p className="px-3 pt-2 text-xs text-faint">
        {when(proving.created_at)} · {count(proving.repeats, 'repeat')} · version <span className="font-mono">{proving.digest.slice(0, 12)}</span>
        {proving.state !== 'done' && ` · ${proving.state}${proving.doing ? `: ${visible(proving.doing)}` : ''}`}
      </p>
      {r && (
        <>
          <table className="w-full text-left">
            <tbody>
              {r.steps.map((s) => (
                <tr key={s.what} className="border-t border-line first:border-0">
                  <th scope="row" className="w-28 px-3 py-1.5 font-medium">
                    {s.what}
                  </th>
                  <td className="w-24 py-1.5">
                    <Pill look={s.ok ? 'passed' : 'failed'}>{s.ok ? 'yes' : 'no'}</Pill>
                  </td>
                  <td className="px-3 py-1.5 text-sm">
                    {visible(s.words)}
                    {s.output && <pre className="mt-1 max-h-60 overflow-auto font-mono text-xs whitespace-pre-wrap text-faint">{visible(s.output)}</pre>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {r.warnings.map((w) => (
            <p key={w} className="px-3 py-1 text-xs text-lamp">
              {visible(w)}
            </p>
          ))}
        </>
      )}
    </>
  );
}

function History({ bouts }: { bouts: Bout[] }) {
  if (bouts.length === 0) return <p className="p-3 text-faint">No bouts yet.</p>;
  return (
    <div className="overflow-x-auto">
      <table className="w-full text-left">
        <thead className="text-xs text-faint">
          <tr>
            {['Contender', 'When', 'Verdict', 'First time', 'Goals', 'Rounds', 'Elapsed'].map((h) => (
              <th key={h} scope="col" className="px-3 py-2 font-medium">
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {bouts.map((b) => (
            <tr key={b.id} className="border-t border-line tabular-nums">
              <th scope="row" className="px-3 py-1.5 font-medium">
                <Link to={`/bouts/${b.id}`}>{b.contender}</Link>
              </th>
              <td className="px-3 py-1.5 text-xs whitespace-nowrap text-faint">{when(b.created_at)}</td>
              <td className="px-3 py-1.5">
                <Pill look={lookOf(b)}>{b.verdict ? b.verdict.outcome : b.state}</Pill>{' '}
                <span className="text-xs text-faint">{b.verdict && b.verdict.outcome !== 'passed' ? reason(b.verdict.reason, b.verdict.check) : ''}</span>
              </td>
              <td className="px-3 py-1.5 text-xs">{b.first?.outcome ?? ''}</td>
              <td className="px-3 py-1.5 text-xs">{b.verdict?.goals ? `${b.verdict.goals.reached} of ${b.verdict.goals.total}` : ''}</td>
              <td className="px-3 py-1.5 text-xs">{b.rounds > 0 ? b.rounds : ''}</td>
              <td className="px-3 py-1.5 whitespace-nowrap">{duration(b.elapsed_ms)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** A task: its brief, whether it is fair, and the bouts on it. */
export function TaskPage() {
  const { slug = '' } = useParams();
  const task = useQuery({ queryKey: ['task', slug], queryFn: () => service.task(slug) });
  const provings = useQuery({ queryKey: ['provings', slug], queryFn: () => service.provings(slug), refetchInterval: (q) => (q.state.data?.some((p) => p.state === 'running' || p.state === 'waiting') ? 1000 : false) });
  const bouts = useQuery({ queryKey: ['bouts-of', slug], queryFn: () => service.bouts(slug) });
  const t = task.data;
  if (!t) return <Notice error={task.error} what="the task" />;
  const newest = provings.data?.[0];
  return (
    <>
      <title>{`${t.task} - Agonometer`}</title>
      <nav aria-label="Where this is" className="text-xs">
        <Link to="/tasks">← Tasks</Link>
      </nav>
      <div className="mt-1 mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
        <div>
          <h1>{t.title}</h1>
          <p className="text-xs text-faint">
            <span className="font-mono">{t.task}</span> · {t.kind}
            {t.size ? ` · ${t.size}` : ''} · {t.labels.join(' ')} · start <span className="font-mono">{t.start_commit.slice(0, 12)}</span>
          </p>
        </div>
        <div className="ml-auto">
          <Proved state={t.proved} />
        </div>
      </div>
      {t.reference_fails && (
        <p role="alert" className="mb-3 rounded border border-bad/40 bg-bad-soft p-3 text-sm">
          Its bouts are void here: {visible(t.reference_fails)}
        </p>
      )}
      <div className="grid items-start gap-4 min-[1000px]:grid-cols-2">
        <Panel title="Brief">
          {(t.wordings.length > 0 ? t.wordings : [{ name: '', words: t.brief }]).map((w) => (
            <div key={w.name} className="border-t border-line first:border-0">
              {w.name && <h3 className="px-3 pt-2 text-xs font-medium text-faint">wording: {w.name}</h3>}
              <pre className="p-3 font-mono text-xs leading-5 whitespace-pre-wrap">{visible(w.words)}</pre>
            </div>
          ))}
          {t.attachments.length > 0 && <p className="border-t border-line px-3 py-2 text-xs text-faint">With it go: {t.attachments.map(visible).join(', ')}</p>}
        </Panel>
        <Panel title="Proving" aside={newest?.result ? `${count(newest.result.goals, 'goal')}, ${count(newest.result.guards, 'guard')}` : ''}>
          {newest ? (
            <Proof proving={newest} />
          ) : (
            <p className="p-3 text-faint">
              Nothing has shown yet that this task is fair. In a terminal: <code>agonometer task prove FILE</code>
            </p>
          )}
        </Panel>
        <Panel title="Bouts" className="min-[1000px]:col-span-2" aside={count(bouts.data?.length ?? 0, 'bout')}>
          {bouts.data ? <History bouts={bouts.data.filter((b) => b.replaced_by === '')} /> : <Notice error={bouts.error} what="the bouts" />}
        </Panel>
        <DropPatch task={t} />
        {t.checks.length > 0 && (
          <Panel title="Checks">
            <dl className="text-sm">
              {t.checks.map((c) => (
                <div key={c.name} className="border-t border-line px-3 py-1.5 first:border-0">
                  <dt className="font-medium">
                    {c.name}{' '}
                    <span className="text-xs font-normal text-faint">
                      reads {c.reads}
                      {c.sealed ? ', sealed' : ''}
                    </span>
                  </dt>
                  <dd className="max-h-40 overflow-auto font-mono text-xs whitespace-pre-wrap text-faint">{visible(c.run)}</dd>
                </div>
              ))}
            </dl>
          </Panel>
        )}
      </div>
    </>
  );
}
