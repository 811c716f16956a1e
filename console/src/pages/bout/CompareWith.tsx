import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';

import { service, type BoutDetail } from '../../api/client';
import { reason } from '../../lib/format';

const MOST = 3;

/** Other results of the same task, to be put beside this one. */
export function CompareWith({ b }: { b: BoutDetail }) {
  const { data } = useQuery({ queryKey: ['bouts', b.task], queryFn: () => service.bouts(b.task) });
  const [chosen, setChosen] = useState<string[]>([]);
  const [reference, setReference] = useState(true);
  const go = useNavigate();
  const others = (data ?? []).filter((o) => o.id !== b.id && o.replaced_by === '' && o.footprint !== null && o.contest_id === b.contest_id);
  if (others.length === 0 || !b.footprint) return null;
  return (
    <form
      className="border-t border-line px-3 py-2 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        void go(`/compare?bouts=${[b.id, ...chosen].join(',')}${reference ? '&reference=yes' : ''}`);
      }}
    >
      <fieldset>
        <legend className="mb-1 text-faint">Compare with</legend>
        <div className="max-h-44 overflow-y-auto">
          {others.map((o) => (
            <label key={o.id} className="flex items-center gap-1.5">
              <input
                type="checkbox"
                checked={chosen.includes(o.id)}
                disabled={chosen.length >= MOST && !chosen.includes(o.id)}
                onChange={(e) => setChosen(e.target.checked ? [...chosen, o.id] : chosen.filter((c) => c !== o.id))}
              />
              <span>
                {o.contender} <span className="text-faint">{[o.wording, `repeat ${o.repeat}`].filter(Boolean).join(', ')}</span>
              </span>
              <span className={`ml-auto text-xs ${o.verdict?.outcome === 'passed' ? 'text-good' : 'text-bad'}`}>{o.verdict ? (o.verdict.outcome === 'passed' ? 'passed' : reason(o.verdict.reason, o.verdict.check)) : o.state}</span>
            </label>
          ))}
        </div>
        <label className="mt-1 flex items-center gap-1.5 border-t border-line pt-1">
          <input type="checkbox" checked={reference} onChange={(e) => setReference(e.target.checked)} /> the reference
        </label>
      </fieldset>
      <button type="submit" disabled={chosen.length === 0} className="mt-2 cursor-pointer rounded bg-water px-3 py-1 text-sheet disabled:cursor-default disabled:opacity-50">
        Compare
      </button>
    </form>
  );
}
