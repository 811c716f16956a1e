import { scaleLinear } from 'd3-scale';
import { useMemo, useState } from 'react';

import type { BoutDetail, TimelineEvent } from '../../api/client';
import { count, duration, visible } from '../../lib/format';
import { tokens } from '../../lib/ledger';

interface Lane {
  name: string;
  kinds: string[];
  className: string;
}

// A lane for each kind of thing; its name stands beside it, so that no colour has to be known.
const LANES: Lane[] = [
  { name: 'Model', kinds: ['exchange'], className: 'fill-water' },
  { name: 'Edits', kinds: ['edit'], className: 'fill-good' },
  { name: 'Calls', kinds: ['call', 'plan', 'usage'], className: 'fill-good' },
  { name: 'Says', kinds: ['said', 'thought'], className: 'fill-faint' },
  { name: 'Output', kinds: ['output'], className: 'fill-faint' },
  { name: 'CPU', kinds: ['busy'], className: 'fill-faint' },
  { name: 'Waits', kinds: ['refused', 'backoff', 'paced', 'asked'], className: 'fill-lamp' },
  { name: 'Person', kinds: ['person', 'corrected', 'permitted', 'suggested', 'note'], className: 'fill-lamp' },
  { name: 'Denied', kinds: ['denied'], className: 'fill-bad' },
  { name: 'Limit', kinds: ['limit'], className: 'fill-bad' },
  { name: 'Checks', kinds: ['check'], className: 'fill-open' },
];

const LEFT = 64;
const WIDTH = 900;
const ROW = 26;
const TOP = 22;

const ms = (us: number) => duration(us / 1000);

const exact = (us: number) => `${(us / 1000).toLocaleString('en', { maximumFractionDigits: 1 })} ms`;

/** What an event was, in words, with its exact moments. */
function words(e: TimelineEvent): string {
  const at = e.until_us > e.at_us ? `${exact(e.at_us)} to ${exact(e.until_us)} (${exact(e.until_us - e.at_us)})` : `at ${exact(e.at_us)}`;
  const text = visible(e.text ?? '');
  switch (e.kind) {
    case 'exchange':
      return `Exchange ${e.number ?? ''} with ${text || 'a model'}, ${e.count ? `${tokens(e.count)} tokens` : 'no tokens counted'}, ${at}${e.ok ? '' : '; it did not go well'}`;
    case 'refused':
      return `Exchange ${e.number ?? ''} refused: ${text}, ${at}`;
    case 'backoff':
      return `Waiting behind a refusal, ${at}`;
    case 'paced':
      return `Waiting for the contender's pace, ${at}`;
    case 'asked':
      return `Waiting for an answer${text ? `: ${text}` : ''}, ${at}`;
    case 'person':
      return `The person edits, ${at}`;
    case 'corrected':
      return `Correction, ${text}, ${at}`;
    case 'permitted':
      return `Permission given ${text}, ${at}`;
    case 'suggested':
      return `Suggestion ${text}, ${at}`;
    case 'call':
      return `${text}${e.ok ? '' : ' (it did not go well)'}, ${at}`;
    case 'said':
      return `${count(e.count ?? 0, 'byte')} said, ${at}`;
    case 'thought':
      return `${count(e.count ?? 0, 'byte')} of thoughts, ${at}`;
    case 'denied':
      return `Denied: ${text}, ${at}`;
    case 'edit':
      return `${e.first ? 'First edit' : 'Edit'} of ${text}, ${at}`;
    case 'output':
      return `${count(e.count ?? 0, 'byte')} printed, ${at}`;
    case 'busy':
      return `Its processes used the CPU for ${ms(e.count ?? 0)}, ${at}`;
    case 'check':
      return `Check ${text} ${e.ok ? 'went well' : 'did not go well'}, ${at}`;
    case 'limit':
      return `Stopped at ${text}, ${at}`;
    case 'several':
      return `${text}, ${at}`;
    default:
      return `${e.kind} ${text}, ${at}`;
  }
}

// How many events of a lane are drawn one by one; of more, those that are closer than a point are drawn as one.
const MANY = 600;

function thinned(events: TimelineEvent[], end: number): TimelineEvent[] {
  if (events.length <= MANY) return events;
  const out: TimelineEvent[] = [];
  let joined = 0;
  for (const e of events) {
    const last = out.at(-1);
    if (last && e.at_us - last.until_us < end / MANY) {
      joined += 1;
      out[out.length - 1] = { ...last, until_us: Math.max(last.until_us, e.until_us), kind: 'several', text: `${joined + 1} events of the kind ${e.kind}` };
    } else {
      joined = 0;
      out.push(e);
    }
  }
  return out;
}

/** Events on one time axis, a lane for each kind; every one can be reached with the arrow keys. */
export function TimelineChart({ events }: { events: TimelineEvent[] }) {
  const [chosen, setChosen] = useState<{ lane: number; at: number } | null>(null);
  const { lanes, end, rounds } = useMemo(() => {
    const last = events.reduce((most, e) => Math.max(most, e.until_us), 1);
    const of = (kinds: string[]) => thinned(events.filter((e) => kinds.includes(e.kind)).sort((a, b) => a.at_us - b.at_us), last);
    const by = LANES.map((l) => ({ ...l, events: of(l.kinds) })).filter((l) => l.events.length > 0);
    return { lanes: by, end: last, rounds: events.filter((e) => e.kind === 'round') };
  }, [events]);
  if (lanes.length === 0) return <p className="p-3 text-faint">Nothing was seen.</p>;
  const x = scaleLinear([0, end], [LEFT, WIDTH - 8]);
  const height = TOP + lanes.length * ROW + 4;
  const current = chosen ? lanes[chosen.lane]?.events[chosen.at] : undefined;
  const onKey = (key: React.KeyboardEvent) => {
    const lane = chosen?.lane ?? 0;
    const at = chosen?.at ?? -1;
    const last = (l: number) => (lanes[l]?.events.length ?? 1) - 1;
    const moves: Record<string, () => { lane: number; at: number }> = {
      ArrowRight: () => ({ lane, at: Math.min(last(lane), at + 1) }),
      ArrowLeft: () => ({ lane, at: Math.max(0, at - 1) }),
      ArrowDown: () => nearest(Math.min(lanes.length - 1, lane + 1)),
      ArrowUp: () => nearest(Math.max(0, lane - 1)),
      Home: () => ({ lane, at: 0 }),
      End: () => ({ lane, at: last(lane) }),
    };
    const nearest = (l: number) => {
      const from = current?.at_us ?? 0;
      const list = lanes[l]?.events ?? [];
      const best = list.reduce((b, e, i) => (Math.abs(e.at_us - from) < Math.abs((list[b]?.at_us ?? 0) - from) ? i : b), 0);
      return { lane: l, at: best };
    };
    const move = moves[key.key];
    if (move) {
      key.preventDefault();
      setChosen(move());
    }
  };
  return (
    <div className="p-3">
      <div
        tabIndex={0}
        role="application"
        aria-roledescription="timeline"
        aria-label="Timeline. Arrow keys go from event to event and from lane to lane."
        onKeyDown={onKey}
        onMouseLeave={() => setChosen(null)}
      >
        <svg viewBox={`0 0 ${WIDTH} ${height}`} className="w-full" role="img" aria-label={`What happened in ${ms(end)}, in ${count(lanes.length, 'lane')}`}>
          {rounds.map((r) => (
            <g key={r.round}>
              <rect x={x(r.at_us)} y={TOP - 2} width={Math.max(1, x(r.until_us) - x(r.at_us))} height={height - TOP} className="fill-water-soft" />
              {rounds.length > 1 && (
                <text x={x(r.at_us) + 3} y={TOP + 8} className="fill-faint text-[9px]">
                  round {r.round}
                </text>
              )}
            </g>
          ))}
          {x.ticks(8).map((t) => (
            <g key={t}>
              <line x1={x(t)} x2={x(t)} y1={TOP - 4} y2={height} className="stroke-line" />
              <text x={x(t)} y={12} textAnchor="middle" className="fill-faint text-[10px] tabular-nums">
                {ms(t)}
              </text>
            </g>
          ))}
          {lanes.map((l, i) => (
            <g key={l.name} transform={`translate(0 ${TOP + i * ROW})`}>
              <text x={0} y={ROW / 2 + 4} className="fill-ink text-[11px]">
                {l.name}
              </text>
              <line x1={LEFT} x2={WIDTH - 8} y1={ROW - 2} y2={ROW - 2} className="stroke-line" />
              {l.events.map((e, j) => {
                const from = x(e.at_us);
                const moment = e.until_us === e.at_us;
                const picked = chosen?.lane === i && chosen.at === j;
                const shape = moment ? (
                  <path d={`M ${from} 4 l 4 8 l -4 8 l -4 -8 z`} className={l.className} />
                ) : (
                  <rect x={from} y={6} width={Math.max(1.5, x(e.until_us) - from)} height={12} rx={1.5} className={l.className} fillOpacity={e.kind === 'backoff' ? 0.45 : 1} />
                );
                return (
                  <g key={`${e.kind}-${e.at_us}-${j}`} onMouseEnter={() => setChosen({ lane: i, at: j })}>
                    {shape}
                    {picked && <rect x={from - 4} y={1} width={Math.max(8, x(e.until_us) - from + 8)} height={ROW - 5} className="fill-none stroke-ink" strokeWidth={1.5} />}
                  </g>
                );
              })}
            </g>
          ))}
        </svg>
      </div>
      {events
        .filter((e) => e.kind === 'cut')
        .map((e) => (
          <p key={e.text} className="text-sm text-lamp">
            {count(e.count ?? 0, 'later event')} of the kind {e.text} were not kept.
          </p>
        ))}
      <output aria-live="polite" className="mt-2 block min-h-6 text-sm break-words tabular-nums">
        {current ? words(current) : <span className="text-faint">Point at an event, or use the arrow keys, to read it.</span>}
      </output>
    </div>
  );
}

const PARTS = [
  { key: 'exchange_us', name: 'Model', className: 'bg-water' },
  { key: 'own_us', name: 'Own work', className: 'bg-good' },
  { key: 'refused_us', name: 'Refused or paced', className: 'bg-lamp' },
  { key: 'asked_us', name: 'Waiting for answers', className: 'bg-open' },
  { key: 'person_us', name: "The person's editing", className: 'bg-bad' },
  { key: 'quiet_us', name: 'Quiet', className: 'bg-line' },
] as const;

/** What the working time went to: parts that add up to the whole. */
export function TimeSplit({ bout }: { bout: BoutDetail }) {
  const t = bout.timing;
  if (!t || t.elapsed_us === 0) return null;
  const parts = PARTS.map((p) => ({ ...p, us: t.parts[p.key], share: t.parts[p.key] / t.elapsed_us })).filter((p) => p.us > 0);
  return (
    <div className="border-t border-line p-3">
      <h3 className="text-sm font-medium">Where {ms(t.elapsed_us)} went</h3>
      <div className="mt-2 flex h-4 overflow-hidden rounded border border-line" aria-hidden="true">
        {parts.map((p) => (
          <div key={p.key} className={p.className} style={{ width: `${100 * p.share}%` }} />
        ))}
      </div>
      <ul className="mt-2 flex flex-wrap gap-x-5 gap-y-1 text-sm">
        {parts.map((p) => (
          <li key={p.key} className="flex items-center gap-1.5">
            <span className={`inline-block size-2.5 rounded-sm border border-line ${p.className}`} aria-hidden="true" />
            {p.name} <span className="tabular-nums text-faint">{`${ms(p.us)}, ${Math.round(100 * p.share)}%`}</span>
          </li>
        ))}
      </ul>
      <p className="mt-2 text-sm text-faint">
        {bout.first_edit_ms === null
          ? 'No edit was seen.'
          : `First edit after ${duration(bout.first_edit_ms)}, last after ${duration(bout.last_edit_ms)}; ${count(t.edits, 'edit')} to ${count(t.files, 'file')}. Longest quiet: ${ms(t.longest_quiet_us)}.`}
      </p>
    </div>
  );
}
