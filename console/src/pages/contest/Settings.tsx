import { Link } from 'react-router';

import type { ContestDetail } from '../../api/client';
import { Panel } from '../../components/Notice';
import { ABSENT, count, duration, visible } from '../../lib/format';
import { tokens, usedWords } from '../../lib/ledger';
import { Ready } from '../contender/ContendersPage';

/** How the contenders differ in what is not being compared, whether they are ready, and what they did first. */
export function Settings({ contest }: { contest: ContestDetail }) {
  const contenders = contest.contenders.filter((c) => c.driver !== 'elsewhere');
  const differ = contest.differences.filter((s) => s.differs).length;
  if (contenders.length === 0) return null;
  return (
    <Panel title="Settings of the contenders" aside={differ === 0 ? 'all the same' : `${count(differ, 'setting')} ${differ === 1 ? 'differs' : 'differ'}`}>
      <div className="overflow-x-auto">
        <table className="w-full text-left text-sm">
          <thead className="text-xs text-faint">
            <tr>
              <th scope="col" className="px-3 py-2 font-medium">
                Setting
              </th>
              {contenders.map((c) => (
                <th key={c.contender} scope="col" className="px-3 py-2 font-medium">
                  <Link to="/contenders" className="text-ink">
                    {c.contender}
                  </Link>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            <tr className="border-t border-line">
              <th scope="row" className="px-3 py-1.5 font-medium">
                ready
              </th>
              {contenders.map((c) => (
                <td key={c.contender} className="px-3 py-1.5">
                  <Ready of={c} />
                </td>
              ))}
            </tr>
            <tr className="border-t border-line">
              <th scope="row" className="px-3 py-1.5 font-medium">
                to set up
              </th>
              {contenders.map((c) => (
                <td key={c.contender} className="px-3 py-1.5" title={c.setup?.steps?.join('; ')}>
                  {c.setup?.minutes == null ? ABSENT : count(c.setup.minutes, 'minute')}
                </td>
              ))}
            </tr>
            {contest.differences.map((s) => (
              <tr key={s.name} className={`border-t border-line ${s.differs ? 'bg-open-soft' : ''}`}>
                <th scope="row" className="px-3 py-1.5 font-medium whitespace-nowrap">
                  {s.name}
                  {s.differs && <span className="ml-2 text-xs font-normal text-lamp">differs</span>}
                </th>
                {contenders.map((c) => (
                  <td key={c.contender} className="px-3 py-1.5">
                    {visible(s.values[c.contender] ?? '')}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {contest.first_uses.map((u) => (
        <details key={u.contender + u.repository} className="border-t border-line px-3 py-2 text-sm">
          <summary className="cursor-pointer">
            First use of {u.repository.split('/').at(-1)} by {u.contender}: {u.trouble ? <span className="text-bad">{visible(u.trouble)}</span> : `${duration(u.elapsed_ms)}${u.used.source === 'unknown' ? '' : `, ${usedWords(u.used)}`}`}. Counted once, in
            no bout.
          </summary>
          <pre className="mt-1 overflow-auto font-mono text-xs">{visible(u.log)}</pre>
        </details>
      ))}
    </Panel>
  );
}

/** How results differ by the words of a brief. */
export function ByWording({ contest }: { contest: ContestDetail }) {
  const { by_wording: rows, spreads } = contest.standings;
  if (rows.length === 0) return null;
  return (
    <Panel title="By wording">
      <div className="overflow-x-auto">
        <table className="w-full text-left text-sm">
          <thead className="text-xs text-faint">
            <tr>
              {['Task', 'Contender', 'Wording', 'Passed', 'First time', 'Elapsed', 'Tokens'].map((h, i) => (
                <th key={h} scope="col" className={`px-3 py-2 font-medium ${i > 2 ? 'text-right' : ''}`}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((r) => (
              <tr key={r.task + r.contender + r.wording} className="border-t border-line tabular-nums">
                <td className="px-3 py-1.5">{r.task}</td>
                <th scope="row" className="px-3 py-1.5 font-medium">
                  {r.contender}
                </th>
                <td className="px-3 py-1.5">{r.wording}</td>
                <td className="px-3 py-1.5 text-right">
                  {r.passed} of {r.passed + r.failed}
                </td>
                <td className="px-3 py-1.5 text-right">{r.first_passed}</td>
                <td className="px-3 py-1.5 text-right">{duration(r.median_elapsed_ms)}</td>
                <td className="px-3 py-1.5 text-right">{tokens(r.median_tokens === null ? null : Math.round(r.median_tokens))}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <ul className="border-t border-line px-3 py-2 text-xs text-faint">
        {spreads
          .filter((s) => s.share > 0)
          .map((s) => (
            <li key={s.task + s.contender}>
              {s.contender} on {s.task} passed {s.best_passed} of {s.best_of} with {s.best}, {s.worst_passed} of {s.worst_of} with {s.worst}.
            </li>
          ))}
        {spreads.some((s) => s.share > 0) && <li>Few bouts with each wording differ by chance too: repeats tell whether the words matter.</li>}
        {spreads.every((s) => s.share === 0) && <li>No contender passed more often with one wording than with another.</li>}
      </ul>
    </Panel>
  );
}
