import { Popover } from 'radix-ui';
import { useState } from 'react';

import type { Standings } from '../../api/client';
import { editValue } from '../../lib/edits';
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

const USUAL = ['strays', 'noise', 'leftovers', 'losses', 'unused', 'tests_added', 'covered_share', 'repeated_lines', 'size_to_reference', 'nearness_likeness'];
const KEPT = 'agonometer.edit-columns';

function keptColumns(): string[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEPT) ?? 'null');
    if (Array.isArray(kept)) return kept.filter((k): k is string => typeof k === 'string');
  } catch {
    // what cannot be read was not chosen
  }
  return USUAL;
}

/** Medians of the edit measures that the reader chooses. */
function EditMedians({ rows, figures }: { rows: Standings['rows']; figures: Standings['figures'] }) {
  const [chosen, setChosen] = useState(keptColumns);
  if (rows.every((r) => Object.keys(r.edits).length === 0)) return null;
  const columns = figures.filter((f) => chosen.includes(f.name));
  const choose = (name: string, on: boolean) => {
    const next = on ? [...chosen, name] : chosen.filter((c) => c !== name);
    setChosen(next);
    localStorage.setItem(KEPT, JSON.stringify(next));
  };
  return (
    <div className="border-t border-line">
      <div className="flex items-baseline gap-3 px-3 pt-2">
        <h3 className="text-sm font-medium">Edit measures</h3>
        <span className="text-xs text-faint">medians over the bouts that passed or failed, and in brackets over those that passed</span>
        <Popover.Root>
          <Popover.Trigger className="ml-auto cursor-pointer rounded border border-line px-2 py-0.5 text-xs hover:bg-water-soft">Columns</Popover.Trigger>
          <Popover.Portal>
            <Popover.Content align="end" sideOffset={4} className="z-10 grid max-h-96 w-[34rem] max-w-[90vw] grid-cols-3 gap-x-3 gap-y-1 overflow-y-auto rounded border border-line bg-sheet p-3 text-xs shadow-lg">
              {figures.map((f) => (
                <label key={f.name} title={f.words} className="flex items-center gap-1.5">
                  <input type="checkbox" checked={chosen.includes(f.name)} onChange={(e) => choose(f.name, e.target.checked)} />
                  {f.title}
                </label>
              ))}
            </Popover.Content>
          </Popover.Portal>
        </Popover.Root>
      </div>
      <div className="overflow-x-auto">
        <table className="w-full text-left" aria-label="Edit measures">
          <thead className="text-xs text-faint">
            <tr>
              {['Contender', ...columns.map((c) => c.title)].map((h, i) => (
                <th key={h} scope="col" title={columns[i - 1]?.words} className={`px-2 py-2 font-medium first:pl-3 last:pr-3 ${i > 0 ? 'text-right' : ''}`}>
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
                {columns.map((c) => {
                  const m = r.edits[c.name];
                  return (
                    <td key={c.name} className="px-2 py-1.5 text-right whitespace-nowrap last:pr-3">
                      {editValue(c.unit, m?.all)}
                      {m?.all !== undefined && m.all !== null && <span className="text-faint"> ({editValue(c.unit, m.passed)})</span>}
                    </td>
                  );
                })}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </div>
  );
}

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
      <EditMedians rows={standings.rows} figures={standings.figures} />
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
