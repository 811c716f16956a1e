import { useState } from 'react';

import type { CorrectMark, NotedMark } from '../../api/client';
import { clock, readClock } from '../../lib/format';

const CLASSES: Record<string, string[]> = { correction: ['error', 'information', 'hint'], suggestion: ['taken', 'refused', 'edited'] };

/** Puts a mark right, or takes it back; the original stays on record. */
export function CorrectForm({ mark, onDone }: { mark: NotedMark; onDone: (body: CorrectMark) => void }) {
  const spans = mark.kind === 'waiting' || mark.kind === 'editing';
  const [at, setAt] = useState(clock(mark.at_us));
  const [until, setUntil] = useState(mark.until_us === null ? '' : clock(mark.until_us));
  const [name, setName] = useState(mark.class);
  const [words, setWords] = useState(mark.words);
  const [why, setWhy] = useState('');
  const atUS = at === clock(mark.at_us) ? mark.at_us : readClock(at);
  const untilUS = mark.until_us !== null && until === clock(mark.until_us) ? mark.until_us : readClock(until);
  const wrong = atUS === null || (spans && (untilUS === null || untilUS < atUS));
  const field = 'rounded border border-line bg-paper px-2 py-0.5';
  const body = (takeBack: boolean): CorrectMark => ({
    kind: mark.kind,
    class: name,
    words,
    at_us: atUS ?? mark.at_us,
    ...(spans ? { until_us: untilUS ?? mark.until_us } : {}),
    reason: why,
    take_back: takeBack,
  });
  return (
    <form
      className="my-2 flex flex-wrap items-end gap-2 rounded bg-open-soft p-2 text-xs"
      onSubmit={(e) => {
        e.preventDefault();
        if (!wrong) onDone(body(false));
      }}
    >
      <label>
        {spans ? 'From' : 'At'} <input className={`${field} w-20`} value={at} onChange={(e) => setAt(e.target.value)} />
      </label>
      {spans && (
        <label>
          to <input className={`${field} w-20`} value={until} onChange={(e) => setUntil(e.target.value)} />
        </label>
      )}
      {CLASSES[mark.kind] && (
        <select aria-label="Class" className={field} value={name} onChange={(e) => setName(e.target.value)}>
          {CLASSES[mark.kind]?.map((c) => (
            <option key={c}>{c}</option>
          ))}
        </select>
      )}
      <label className="grow">
        Words <input className={`${field} w-full`} value={words} onChange={(e) => setWords(e.target.value)} />
      </label>
      <label className="grow">
        Why <input className={`${field} w-full`} value={why} onChange={(e) => setWhy(e.target.value)} />
      </label>
      <button type="submit" disabled={wrong} className="cursor-pointer rounded border border-water bg-water px-2 py-0.5 text-sheet disabled:opacity-40">
        Correct it
      </button>
      <button type="button" className="cursor-pointer rounded border border-bad/50 px-2 py-0.5 text-bad" onClick={() => onDone(body(true))}>
        Take it back
      </button>
      {wrong && (
        <span role="alert" className="text-bad">
          Moments are like 1:05.3, and the end lies behind the beginning.
        </span>
      )}
    </form>
  );
}
