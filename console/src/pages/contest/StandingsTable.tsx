import type { Standings } from '../../api/client';
import { duration, figure, share } from '../../lib/format';
import { money, moneyRange, tokens } from '../../lib/ledger';

/** How often a contender's tries came to nothing for what was not its skill. */
function available(a: Standings['rows'][number]['availability']): string {
  const waited = a.waited_ms === null ? '' : `; ${duration(a.waited_ms)} of waiting added`;
  return `${a.tries} tries: ${a.refused} refused, ${a.void} void, ${a.late} late${waited}`;
}

/** Whether contenders were driven in several ways, or needed a person. */
function somebody(rows: Standings['rows']): boolean {
  const ways = new Set(rows.map((r) => r.driven).filter(Boolean));
  return ways.size > 1 || rows.some((r) => r.corrections + r.own_edits + r.permissions > 0 || r.attention_ms > 0);
}

/** How contenders were driven, and what that asked of a person. */
function Asked({ rows, rate }: { rows: Standings['rows']; rate: string }) {
  const heads = ['Contender', 'Driven', 'Corrections', 'Permissions', 'Own edits', 'Attention', 'Lines kept'];
  if (rate) heads.push('Per passed, with the person');
  return (
    <div className="overflow-x-auto border-t border-line">
      <table className="w-full text-left" aria-label="What it asked of a person">
        <thead className="text-xs text-faint">
          <tr>
            {heads.map((h, i) => (
              <th key={h} scope="col" className={`px-2 py-2 font-medium first:pl-3 last:pr-3 ${i > 1 ? 'text-right' : ''}`}>
                {h}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((r) => (
            <tr key={r.contender} className="border-t border-line tabular-nums">
              <th scope="row" className="px-3 py-1.5 font-medium">
                {r.contender}
              </th>
              <td className="px-2 py-1.5">{WAYS[r.driven] ?? r.driven}</td>
              {r.effort_of === 0 ? (
                <td colSpan={5} className="px-2 py-1.5 text-center text-faint">
                  not known
                </td>
              ) : (
                <>
                  <td className="px-2 py-1.5 text-right">{r.corrections}</td>
                  <td className="px-2 py-1.5 text-right">{r.permissions}</td>
                  <td className="px-2 py-1.5 text-right">{r.own_edits}</td>
                  <td className="px-2 py-1.5 text-right whitespace-nowrap">{duration(r.attention_ms)}</td>
                  <td className="px-2 py-1.5 text-right">{share(r.median_kept_share)}</td>
                </>
              )}
              {rate && (
                <td className="px-2 py-1.5 pr-3 text-right whitespace-nowrap">
                  {r.money_per_passed_with_person_range ? moneyRange(r.money_per_passed_with_person_range, r.spent_at_least) : money(r.money_per_passed_with_person, r.spent_at_least)}
                </td>
              )}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

const WAYS: Record<string, string> = { command: 'by a command', acp: 'over the protocol', hand: 'by hand', elsewhere: 'made elsewhere', mixed: 'in several ways' };

/** Who succeeded, how long it took and how large the change was. */
export function StandingsTable({ standings, rate }: { standings: Standings; rate: string }) {
  const person = somebody(standings.rows);
  const heads = ['Contender', 'Passed', 'In the end', 'First time', 'Void', 'Elapsed', 'First edit', 'Tokens', 'Spent', 'Per passed', 'Available', 'Files', 'Lines'];
  return (
    <>
      <div className="overflow-x-auto">
        <table className="w-full text-left">
          <thead className="text-xs text-faint">
            <tr>
              {heads.map((h, i) => (
                <th key={h} scope="col" className={`px-2 py-2 font-medium first:pl-3 last:pr-3 ${i > 0 ? 'text-right' : ''}`}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {standings.rows.map((r) => (
              <tr key={r.contender} className="border-t border-line tabular-nums">
                <th scope="row" className="px-3 py-2 font-medium">
                  {r.contender}
                </th>
                <td className="px-2 py-2 text-right whitespace-nowrap">
                  {r.passed} of {r.passed + r.failed}
                </td>
                <td className="px-2 py-2 text-right">
                  <span className="flex items-center justify-end gap-2">
                    <svg viewBox="0 0 40 6" className="hidden h-1.5 w-10 min-[1500px]:block" aria-hidden="true">
                      <rect width="40" height="6" rx="3" className="fill-line" />
                      <rect width={40 * (r.success_share ?? 0)} height="6" rx="3" className="fill-water" />
                    </svg>
                    {share(r.success_share)}
                  </span>
                </td>
                <td className="px-2 py-2 text-right">{share(r.first_share)}</td>
                <td className="px-2 py-2 text-right">{r.void}</td>
                <td className="px-2 py-2 text-right whitespace-nowrap">{duration(r.median_elapsed_ms)}</td>
                <td className="px-2 py-2 text-right whitespace-nowrap">{duration(r.median_first_edit_ms)}</td>
                <td className="px-2 py-2 text-right whitespace-nowrap">
                  {tokens(r.median_tokens === null ? null : Math.round(r.median_tokens), r.tokens_at_least)}
                  {r.median_tokens !== null && r.source !== 'metered' && <span className="block text-xs text-lamp">{r.source}</span>}
                </td>
                <td className="px-2 py-2 text-right whitespace-nowrap" title={r.spent ?? undefined}>
                  {r.spent_range ? moneyRange(r.spent_range, r.spent_at_least) : money(r.spent, r.spent_at_least)}
                </td>
                <td className="px-2 py-2 text-right whitespace-nowrap" title={r.money_per_passed ?? undefined}>
                  {r.money_per_passed_range ? moneyRange(r.money_per_passed_range, r.spent_at_least) : money(r.money_per_passed, r.spent_at_least)}
                </td>
                <td className="px-2 py-2 text-right whitespace-nowrap" title={available(r.availability)}>
                  {share(r.availability.share)}
                </td>
                <td className="px-2 py-2 text-right">{figure(r.median_files)}</td>
                <td className="py-2 pr-3 pl-2 text-right whitespace-nowrap">
                  +{figure(r.median_lines_added)} −{figure(r.median_lines_removed)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {person && <Asked rows={standings.rows} rate={rate} />}
      <ul className="list-none border-t border-line px-3 py-2 text-xs text-faint">
        <li>In the end: repair rounds included; first time: without one. Times, tokens, files and lines are medians over the bouts that passed or failed. Per passed: all that was spent, divided by what passed. Available: the share of tries that were neither refused nor void nor late.</li>
        {person && (
          <li>
            Corrections, own edits and attention are what the bouts asked of a person, over all that passed or failed.
            {rate ? ` With person: per passed, with that time at ${rate} an hour.` : ''}
          </li>
        )}
        {standings.notes.map((n) => (
          <li key={n}>Note: {n}.</li>
        ))}
      </ul>
    </>
  );
}
