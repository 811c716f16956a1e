import { useState } from 'react';

import type { UsedHand } from '../../api/client';

const WAYS = ['allowance', 'money', 'tokens'] as const;
const NAMES = { allowance: 'readings of an allowance', money: 'money', tokens: 'tokens' };

/** What a person knows of tokens, money or keys, where no meter counts. */
export function UsedForm({ typing, pending, onDone }: { typing: boolean; pending: boolean; onDone: (body: UsedHand) => void }) {
  const [way, setWay] = useState<(typeof WAYS)[number]>('allowance');
  const [values, setValues] = useState<Record<string, string>>({});
  const set = (name: string) => (e: React.ChangeEvent<HTMLInputElement>) => setValues({ ...values, [name]: e.target.value });
  const input = (name: string, label: string, hint: string) => (
    <label className="block">
      {label} <input className="mt-0.5 block w-full rounded border border-line bg-paper px-2 py-0.5" value={values[name] ?? ''} placeholder={hint} onChange={set(name)} />
    </label>
  );
  const number = (name: string) => (/^\d+$/.test(values[name] ?? '') ? Number(values[name]) : null);
  const body = (): UsedHand | null => {
    const keys = typing ? number('keys') : null;
    const out: UsedHand = keys === null ? {} : { keys };
    if (values.model) out.model = values.model;
    if (way === 'allowance' && values.before && values.after && values.of) out.allowance = { before: values.before, after: values.after, of: values.of };
    if (way === 'money' && values.money) out.money = values.money;
    if (way === 'tokens' && number('fresh') !== null && number('output') !== null)
      out.tokens = { fresh: number('fresh'), output: number('output'), cached: number('cached'), written: null, reasoning: null };
    return out.allowance ?? out.money ?? out.tokens ?? out.keys !== undefined ? out : null;
  };
  return (
    <details className="p-3 text-xs">
      <summary className="cursor-pointer text-faint">Type in what you know</summary>
      <form
        className="mt-2 grid gap-2"
        onSubmit={(e) => {
          e.preventDefault();
          const b = body();
          if (b) onDone(b);
        }}
      >
        <select aria-label="What is known" className="rounded border border-line bg-paper px-2 py-0.5" value={way} onChange={(e) => setWay(e.target.value as typeof way)}>
          {WAYS.map((w) => (
            <option key={w} value={w}>
              {NAMES[w]}
            </option>
          ))}
        </select>
        {way === 'allowance' && (
          <>
            {input('before', 'Used up before, in percent as shown', '12.3')}
            {input('after', 'After', '14.1')}
            {input('of', 'What the whole is worth', '20 AVM')}
          </>
        )}
        {way === 'money' && input('money', 'Money', '0.42 AVM')}
        {way === 'tokens' && (
          <>
            {input('fresh', 'Fresh', '12000')}
            {input('cached', 'Cached', '8000')}
            {input('output', 'Output', '900')}
          </>
        )}
        {input('model', 'Model', 'the one that replied')}
        {typing && input('keys', 'Keys pressed', '120')}
        <button type="submit" disabled={pending || body() === null} className="cursor-pointer rounded border border-line px-2 py-1 disabled:opacity-40">
          Take it
        </button>
      </form>
    </details>
  );
}
