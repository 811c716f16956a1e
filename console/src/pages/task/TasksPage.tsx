import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';

import { service } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { Proved } from './Proved';

/** The tasks that contests have used. */
export function TasksPage() {
  const { data, error } = useQuery({ queryKey: ['tasks'], queryFn: service.tasks });
  if (!data) return <Notice error={error} what="the tasks" />;
  return (
    <>
      <title>Tasks - Agonometer</title>
      <Panel title="Tasks" aside="as they were last used">
        {data.length === 0 ? (
          <p className="p-3 text-faint">No tasks yet: they come with the first contest.</p>
        ) : (
          <table className="w-full text-left">
            <thead className="text-xs text-faint">
              <tr>
                {['Task', 'Title', 'Kind', 'Labels', 'Proved', 'Contests'].map((h) => (
                  <th key={h} scope="col" className="px-3 py-2 font-medium">
                    {h}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {data.map((t) => (
                <tr key={t.task} className="border-t border-line">
                  <th scope="row" className="px-3 py-2 font-medium">
                    <Link to={`/tasks/${t.task}`}>{t.task}</Link>
                  </th>
                  <td className="px-3 py-2">{t.title}</td>
                  <td className="px-3 py-2">{t.kind}</td>
                  <td className="px-3 py-2 text-xs text-faint">{t.labels.join(' ')}</td>
                  <td className="px-3 py-2">
                    <Proved state={t.proved} />
                  </td>
                  <td className="px-3 py-2 tabular-nums">{t.contests}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Panel>
    </>
  );
}
