import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { service, type Contest } from '../../api/client';
import { Notice } from '../../components/Notice';
import { Pill, type Look } from '../../components/Outcome';
import { duration, when } from '../../lib/format';

const LOOKS: Record<string, Look> = { waiting: 'waiting', running: 'running', stopping: 'running', done: 'passed', 'by-hand': 'waiting', stopped: 'void' };

function took(c: Contest): number | null {
  if (!c.started_at || !c.ended_at) return null;
  return Date.parse(c.ended_at) - Date.parse(c.started_at);
}

export function ContestsPage() {
  const { data, error } = useQuery({ queryKey: ['contests'], queryFn: service.contests, refetchInterval: 3000 });
  if (!data) return <Notice error={error} what="contests" />;
  return (
    <>
      <title>Contests - Agonometer</title>
      <h1 className="mb-3">Contests</h1>
      {data.length === 0 ? (
        <div className="rounded border border-dashed border-line bg-sheet p-6">
          <p>There is no contest yet. Start one in a terminal:</p>
          <pre className="mt-3 rounded bg-paper p-3 font-mono">agonometer contest start FILE</pre>
          <p className="mt-3 text-faint">Or let the demo show what one looks like: agonometer demo</p>
        </div>
      ) : (
        <div className="overflow-x-auto rounded border border-line bg-sheet">
          <table className="w-full text-left">
            <thead className="border-b border-line text-xs text-faint">
              <tr>
                {['Contest', 'State', 'Done', 'Passed', 'Failed', 'Void', 'Created', 'Took'].map((h, i) => (
                  <th key={h} scope="col" className={`px-3 py-2 font-medium ${i >= 2 && i <= 5 ? 'text-right' : ''}`}>
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {data.map((c) => (
                <tr key={c.id} className="border-b border-line last:border-0 hover:bg-paper">
                  <td className="px-3 py-2">
                    <Link to={`/contests/${c.id}`} className="font-medium">
                      {c.title}
                    </Link>
                    <div className="font-mono text-xs text-faint">
                      {c.name} {c.id}
                    </div>
                  </td>
                  <td className="px-3 py-2">
                    <Pill look={LOOKS[c.state] ?? 'waiting'}>{c.state}</Pill>
                  </td>
                  <td className="px-3 py-2 text-right tabular-nums">
                    {c.counts.done} of {c.counts.bouts}
                  </td>
                  <td className="px-3 py-2 text-right tabular-nums">{c.counts.passed}</td>
                  <td className="px-3 py-2 text-right tabular-nums">{c.counts.failed}</td>
                  <td className="px-3 py-2 text-right tabular-nums">{c.counts.void}</td>
                  <td className="px-3 py-2 whitespace-nowrap">{when(c.created_at)}</td>
                  <td className="px-3 py-2 whitespace-nowrap tabular-nums">{duration(took(c))}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
