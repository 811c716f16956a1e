import { useQuery } from '@tanstack/react-query';

import { service, type BoutDetail, type Exchange, type Sheet } from '../../api/client';
import { Notice } from '../../components/Notice';
import { ABSENT, count, duration, visible } from '../../lib/format';
import { money, tokens } from '../../lib/ledger';
import { TimelineChart, TimeSplit } from './Timeline';

const KINDS = ['fresh', 'cached', 'written', 'output', 'reasoning'] as const;

const head = 'px-2 py-1.5 font-medium first:pl-3 last:pr-3';
const cell = 'px-2 py-1.5 text-right whitespace-nowrap tabular-nums last:pr-3';

function Heads({ names }: { names: string[] }) {
  return (
    <thead className="text-xs text-faint">
      <tr>
        {names.map((n, i) => (
          <th key={n} scope="col" className={`${head} ${i > 0 ? 'text-right' : 'text-left'}`}>
            {n}
          </th>
        ))}
      </tr>
    </thead>
  );
}

type SheetLine = Pick<Sheet, 'exchanges' | 'tokens' | 'money'> & { name: string; total: number | null; atLeast: boolean; moneyAtLeast: boolean; note: string };

function line(name: string, s: Sheet, note = ''): SheetLine {
  const notes = [note];
  if (s.refused > 0) notes.push(`${s.refused} refused`);
  if (s.not_counted > 0) notes.push(`${s.not_counted} not counted`);
  if (s.partial > 0) notes.push(`${s.partial} cut off`);
  if (s.unpriced.length > 0) notes.push(`no price for ${s.unpriced.join(', ')}`);
  return { name, exchanges: s.exchanges, tokens: s.tokens, total: s.total, atLeast: s.at_least, money: s.money, moneyAtLeast: s.money_at_least, note: notes.filter(Boolean).join('; ') };
}

function SheetTable({ bout }: { bout: BoutDetail }) {
  const l = bout.ledger;
  const lines: SheetLine[] = [];
  if (l.rounds.length > 1) for (const r of l.rounds) lines.push(line(`round ${r.round}`, r));
  for (const m of l.lines)
    lines.push({
      name: m.model || 'no model named',
      exchanges: m.exchanges,
      tokens: m.tokens,
      total: KINDS.slice(0, 4).reduce<number | null>((sum, k) => (m.tokens[k] === null ? sum : (sum ?? 0) + m.tokens[k]), null),
      atLeast: m.not_counted > 0,
      money: m.money,
      moneyAtLeast: false,
      note: m.share === null ? '' : `${(100 * m.share).toPrecision(3)}% of the tokens`,
    });
  lines.push(line(`all (${l.source})`, l));
  for (const beside of [l.protocol, l.reported, l.typed_in]) {
    if (!beside) continue;
    const d = beside.source === 'reported' || (beside.source === 'protocol' && !l.reported) ? l.difference : null;
    lines.push(line(beside.source, beside, d === null ? '' : d === 0 ? 'as metered' : `${d > 0 ? '+' : '−'}${tokens(Math.abs(d))} tokens against the meter`));
  }
  return (
    <div className="overflow-x-auto border-t border-line">
      <table className="w-full text-sm" aria-label="Tokens and money">
        <Heads names={['', 'Exchanges', 'Fresh', 'Cached', 'Written', 'Output', 'Reasoning', 'All', 'Money', 'Notes']} />
        <tbody>
          {lines.map((r) => (
            <tr key={r.name} className="border-t border-line">
              <th scope="row" className="px-3 py-1.5 text-left font-medium whitespace-nowrap">
                {visible(r.name)}
              </th>
              <td className={cell}>{r.exchanges || ABSENT}</td>
              {KINDS.map((k) => (
                <td key={k} className={cell}>
                  {tokens(r.tokens[k])}
                </td>
              ))}
              <td className={`${cell} font-medium`}>{r.total === null && r.atLeast ? 'not counted' : tokens(r.total, r.atLeast)}</td>
              <td className={cell} title={r.money ?? undefined}>
                {money(r.money, r.moneyAtLeast)}
              </td>
              <td className="px-2 py-1.5 pr-3 text-right text-xs text-faint">{r.note}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {l.largest_prompt !== null && (
        <p className="border-t border-line px-3 py-2 text-xs text-faint">
          Largest prompt {tokens(l.largest_prompt)} tokens
          {l.context_share === null ? '' : `, ${(100 * l.context_share).toPrecision(2)}% of the model's context`}.
        </p>
      )}
    </div>
  );
}

function notes(x: Exchange): string {
  const out: string[] = [];
  if (x.refused) out.push(['refused', x.cause, x.cause_words, x.retry_after ? `again after ${x.retry_after}` : ''].filter(Boolean).join(', '));
  if (x.model && x.model_asked && x.model !== x.model_asked) out.push(`asked for ${x.model_asked}`);
  if (x.not_counted) out.push('not counted');
  if (x.partial) out.push('cut off');
  if (x.paced_us >= 1000) out.push(`paced ${duration(x.paced_us / 1000)}`);
  if (x.trouble) out.push(x.trouble);
  return out.join('; ');
}

function ExchangeTable({ bout, exchanges }: { bout: string; exchanges: Exchange[] }) {
  if (exchanges.length === 0) return null;
  return (
    <div className="max-h-128 overflow-auto border-t border-line">
      <table className="w-full text-sm" aria-label="Exchanges">
        <Heads names={['#', 'Round', 'At', 'First byte', 'Took', 'Status', 'Model', 'Fresh', 'Cached', 'Output', 'Money', 'Notes']} />
        <tbody>
          {exchanges.map((x) => (
            <tr key={x.number} className={`border-t border-line ${x.refused || x.status >= 400 || x.status === 0 ? 'bg-open-soft' : ''}`}>
              <td className="px-3 py-1 tabular-nums">{x.number}</td>
              <td className={cell}>{x.round}</td>
              <td className={cell}>{duration(x.at_us / 1000)}</td>
              <td className={cell}>{x.first_us === null ? ABSENT : duration((x.first_us - x.at_us) / 1000)}</td>
              <td className={cell}>{duration((x.until_us - x.at_us) / 1000)}</td>
              <td className={cell}>{x.status || ABSENT}</td>
              <td className={cell}>{visible(x.model || x.model_asked || ABSENT)}</td>
              <td className={cell}>{tokens(x.tokens.fresh)}</td>
              <td className={cell}>{tokens(x.tokens.cached)}</td>
              <td className={cell}>{tokens(x.tokens.output)}</td>
              <td className={cell} title={x.money ?? undefined}>
                {money(x.money)}
              </td>
              <td className="px-2 py-1 pr-3 text-right text-xs text-faint">
                {visible(notes(x))}
                {x.has_bodies &&
                  (['request', 'reply'] as const).map((side) => (
                    <a key={side} className="ml-2" target="_blank" rel="noreferrer" href={service.bodyHref(bout, x.number, side)}>
                      {side}
                    </a>
                  ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** When things happened in a bout, what its time went to, and what it used. */
export function TimeAndTokens({ bout }: { bout: BoutDetail }) {
  const refetchInterval = bout.state === 'done' ? (false as const) : 1000;
  const timeline = useQuery({ queryKey: ['timeline', bout.id, bout.state], queryFn: () => service.timeline(bout.id), refetchInterval });
  const ledger = useQuery({ queryKey: ['ledger', bout.id, bout.state], queryFn: () => service.boutLedger(bout.id), refetchInterval });
  if (!timeline.data || !ledger.data) return <Notice error={timeline.error ?? ledger.error} what="the timeline" />;
  return (
    <div>
      <TimelineChart events={timeline.data.events} />
      <TimeSplit bout={bout} />
      <SheetTable bout={bout} />
      {ledger.data.departures.map((d) => (
        <p key={d.words} className="border-t border-line bg-open-soft px-3 py-2 text-sm">
          {visible(d.words)}
        </p>
      ))}
      {bout.ledger.source === 'unknown' && (
        <p className="border-t border-line px-3 py-2 text-sm text-faint">
          What it used is not known: the contender&apos;s file names no meter, and the tool reports nothing.
        </p>
      )}
      {ledger.data.exchanges.length > 0 && <h3 className="border-t border-line px-3 pt-3 pb-1 text-sm font-medium">{count(ledger.data.exchanges.length, 'exchange')}</h3>}
      <ExchangeTable bout={bout.id} exchanges={ledger.data.exchanges} />
    </div>
  );
}
