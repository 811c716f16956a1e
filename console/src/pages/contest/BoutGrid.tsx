import { Link } from 'react-router';

import type { Bout, ContestDetail } from '../../api/client';
import { colours, lookOf, Mark } from '../../components/Outcome';
import { duration, reason } from '../../lib/format';
import { money, tokens } from '../../lib/ledger';

function words(b: Bout): string {
  if (!b.verdict) return b.doing ? `${b.state}, ${b.doing}` : b.state;
  const verdict = b.verdict.outcome === 'passed' ? 'passed' : `${b.verdict.outcome}, ${reason(b.verdict.reason, b.verdict.check)}`;
  return b.first_edit_ms === null ? verdict : `${verdict}; first edit after ${duration(b.first_edit_ms)}`;
}

function marks(b: Bout): string[] {
  const out: string[] = [];
  if (b.unconfined) out.push('unconfined');
  if (b.rerun > 0) out.push(`rerun ${b.rerun}`);
  if (b.rounds > 1) out.push(`${b.rounds} rounds`);
  if (b.verdict?.weakened?.length) out.push('weakened');
  if (b.wording) out.push(b.wording);
  if (b.imported) out.push('elsewhere');
  if (b.driver === 'hand') out.push('by hand');
  if (b.effort && b.effort.own_edits > 0) out.push('own edits');
  if (b.flags.some((f) => f.startsWith('another model'))) out.push('other model');
  if (b.flags.some((f) => f.startsWith('refused'))) out.push('refused');
  return out;
}

function Chip({ bout }: { bout: Bout }) {
  const look = lookOf(bout);
  const short = bout.verdict ? (bout.verdict.check ?? (bout.verdict.outcome === 'passed' ? 'passed' : bout.verdict.reason)) : bout.state;
  return (
    <Link
      to={bout.hand && bout.state !== 'done' ? `/hand/${bout.id}` : `/bouts/${bout.id}`}
      title={words(bout)}
      aria-label={`${bout.contender} on ${bout.task}${bout.wording ? ` (${bout.wording})` : ''}, repeat ${bout.repeat}: ${words(bout)}`}
      className={`flex flex-wrap items-center gap-1.5 rounded border px-1.5 py-1 text-xs no-underline hover:brightness-95 ${colours(look)}`}
    >
      <Mark look={look} />
      <span className="truncate">{short}</span>
      <span className="ml-auto pl-1 whitespace-nowrap tabular-nums text-faint">{bout.elapsed_ms === null ? '' : duration(bout.elapsed_ms)}</span>
      {bout.used.tokens !== null && (
        <span className="w-full whitespace-nowrap tabular-nums text-faint" title={bout.used.money ?? undefined}>
          {tokens(bout.used.tokens, bout.used.at_least)} tok{bout.used.money ? ` · ${money(bout.used.money, bout.used.money_at_least)}` : ''}
        </span>
      )}
      {marks(bout).map((m) => (
        <span key={m} className="rounded bg-lamp/15 px-1 whitespace-nowrap text-lamp">
          {m}
        </span>
      ))}
    </Link>
  );
}

/** Moves the focus between the bouts of the grid with the arrow keys. */
function onArrow(event: React.KeyboardEvent<HTMLTableElement>) {
  const steps: Record<string, [number, number]> = { ArrowLeft: [0, -1], ArrowRight: [0, 1], ArrowUp: [-1, 0], ArrowDown: [1, 0] };
  const step = steps[event.key];
  const cell = (event.target as HTMLElement).closest('td');
  if (!step || !cell) return;
  const links = [...cell.querySelectorAll('a')];
  const at = links.indexOf(event.target as HTMLAnchorElement);
  const inside = links[at + step[0]];
  const row = cell.parentElement as HTMLTableRowElement;
  const next = event.currentTarget.rows[row.rowIndex + step[0]]?.cells[cell.cellIndex + step[1]]?.querySelectorAll('a');
  const target = step[0] !== 0 && inside ? inside : next?.[step[0] < 0 ? next.length - 1 : step[0] > 0 ? 0 : Math.min(at, next.length - 1)];
  if (target) {
    event.preventDefault();
    target.focus();
  }
}

/** Contenders by tasks, each bout in its place. */
export function BoutGrid({ contest }: { contest: ContestDetail }) {
  const shown = contest.bouts.filter((b) => b.replaced_by === '');
  return (
    <div className="overflow-x-auto">
      <table className="w-full border-collapse text-left" onKeyDown={onArrow}>
        <thead>
          <tr className="text-xs text-faint">
            <th scope="col" className="px-3 py-2 font-medium">
              Contender
            </th>
            {contest.tasks.map((t) => (
              <th key={t.task} scope="col" className="min-w-42 px-2 py-2 align-bottom font-medium">
                <Link to={`/tasks/${t.task}`} className="text-ink">
                  {t.task}
                </Link>
                <span className="line-clamp-2 font-normal">{t.title}</span>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {contest.contenders.map((c) => (
            <tr key={c.contender} className="border-t border-line align-top">
              <th scope="row" className="max-w-36 px-3 py-2 font-medium">
                {c.contender}
                <span className="hidden text-xs font-normal text-faint sm:line-clamp-2">{c.title}</span>
              </th>
              {contest.tasks.map((t) => (
                <td key={t.task} className="px-2 py-2">
                  <div className="flex flex-col gap-1">
                    {shown
                      .filter((b) => b.contender === c.contender && b.task === t.task)
                      .sort((a, b) => a.repeat - b.repeat || a.position - b.position)
                      .map((b) => (
                        <Chip key={b.id} bout={b} />
                      ))}
                  </div>
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
