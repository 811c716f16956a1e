import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useState } from 'react';

import { service, type Contender } from '../../api/client';
import { Notice } from '../../components/Notice';
import { Pill } from '../../components/Outcome';
import { count, duration, visible, when } from '../../lib/format';

/** Whether a contender is ready, by its newest check. */
export function Ready({ of }: { of: Contender }) {
  const r = of.readiness;
  if (of.driver === 'elsewhere') return <span className="text-xs text-faint">worked elsewhere</span>;
  if (!r) return <Pill look="waiting">not checked</Pill>;
  return <Pill look={r.ok ? 'passed' : 'failed'}>{r.ok ? 'ready' : 'not ready'}</Pill>;
}

const LEVELS: Record<string, string> = { ok: 'text-good', warning: 'text-lamp', missing: 'text-bad' };

function Findings({ of }: { of: Contender }) {
  const r = of.readiness;
  const queries = useQueryClient();
  const check = useMutation({ mutationFn: (trial: boolean) => service.checkContender(of.contender, trial), onSettled: () => queries.invalidateQueries({ queryKey: ['contenders'] }) });
  return (
    <div className="p-3 text-sm">
      {of.driver !== 'elsewhere' && (
        <p className="flex flex-wrap items-center gap-2">
          <button type="button" disabled={check.isPending} onClick={() => check.mutate(of.driver !== 'hand')} className="cursor-pointer rounded border border-water bg-water px-3 py-1 text-sheet disabled:opacity-60">
            {of.driver === 'hand' ? 'Check it' : 'Check it, with a trial bout'}
          </button>
          {of.driver !== 'hand' && (
            <button type="button" disabled={check.isPending} onClick={() => check.mutate(false)} className="cursor-pointer rounded border border-line px-3 py-1 disabled:opacity-60">
              Without
            </button>
          )}
          {check.isPending && <span role="status">Checking; a trial bout takes two minutes at most …</span>}
          {check.error && (
            <span role="alert" className="text-bad">
              {check.error.message}
            </span>
          )}
        </p>
      )}
      {r && (
        <>
          <p className="mt-2 text-xs text-faint">
            Checked {when(r.at)}
            {r.version ? `; it says it is ${visible(r.version)}` : ''}
            {r.trial_ms === null ? '' : `; trial bout ${duration(r.trial_ms)}`}
          </p>
          <ul className="mt-1">
            {r.findings.map((f) => (
              <li key={f.what + f.detail} className="py-0.5">
                <span className={`inline-block w-16 text-xs ${LEVELS[f.level] ?? ''}`}>{f.level}</span>
                <strong className="font-medium">{f.what}</strong>: {visible(f.detail)}
                {f.remedy && <span className="block pl-16 text-xs text-faint">{visible(f.remedy)}</span>}
              </li>
            ))}
          </ul>
        </>
      )}
      {of.setup && (
        <div className="mt-3">
          <h3 className="font-medium">To set it up{of.setup.minutes == null ? '' : `: ${count(of.setup.minutes, 'minute')} of a person`}</h3>
          <ol className="ml-5 list-decimal">{of.setup.steps?.map((s) => <li key={s}>{visible(s)}</li>)}</ol>
          {of.setup.accounts && of.setup.accounts.length > 0 && <p className="text-faint">Accounts: {of.setup.accounts.map(visible).join(', ')}</p>}
        </div>
      )}
      <details className="mt-3">
        <summary className="cursor-pointer text-xs text-faint">Its file, {of.file}</summary>
        <pre className="mt-1 max-h-80 overflow-auto rounded bg-paper p-3 font-mono text-xs">{visible(of.source)}</pre>
      </details>
    </div>
  );
}

/** What each contender is, how it is driven, and whether it is ready. */
export function ContendersPage() {
  const { data, error } = useQuery({ queryKey: ['contenders'], queryFn: service.contenders });
  const [open, setOpen] = useState<string | null>(null);
  if (!data) return <Notice error={error} what="contenders" />;
  return (
    <>
      <title>Contenders - Agonometer</title>
      <h1 className="mb-3">Contenders</h1>
      {data.length === 0 ? (
        <p className="rounded border border-dashed border-line bg-sheet p-6">
          There is no contender yet: they come with the first contest. In a terminal: <code>agonometer contender check FILE</code>
        </p>
      ) : (
        <ul className="rounded border border-line bg-sheet">
          {data.map((c) => (
            <li key={c.contender} className="border-t border-line first:border-0">
              <button
                type="button"
                aria-expanded={open === c.contender}
                onClick={() => setOpen(open === c.contender ? null : c.contender)}
                className="grid w-full cursor-pointer grid-cols-[minmax(0,2fr)_minmax(0,1fr)_9rem] items-center gap-x-4 px-3 py-2 text-left hover:bg-paper sm:grid-cols-[10rem_minmax(0,2fr)_minmax(0,1.2fr)_8rem_9rem]"
              >
                <span className="font-medium">
                  <span aria-hidden="true" className="mr-2 inline-block w-3 text-faint">
                    {open === c.contender ? '▾' : '▸'}
                  </span>
                  {c.contender}
                </span>
                <span className="hidden text-sm sm:block">{visible(c.title)}</span>
                <span className="text-sm text-faint">{c.driven}</span>
                <span className="hidden text-sm text-faint sm:block">{[c.model, c.effort].filter(Boolean).join(', ')}</span>
                <span className="text-right">
                  <Ready of={c} />
                </span>
              </button>
              {open === c.contender && <Findings of={c} />}
            </li>
          ))}
        </ul>
      )}
    </>
  );
}
