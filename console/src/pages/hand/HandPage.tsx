import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useEffectEvent, useRef, useState } from 'react';
import { Link, useParams } from 'react-router';

import { service, type AddMark, type Hand, type NotedMark } from '../../api/client';
import { Notice, Panel } from '../../components/Notice';
import { Pill } from '../../components/Outcome';
import { clock, count, reason, visible } from '../../lib/format';
import { usedWords } from '../../lib/ledger';
import { markSpan, markWords } from '../bout/Person';
import { CorrectForm } from './CorrectForm';
import { PHASES } from './HandsPage';
import { UsedForm } from './UsedForm';

/** Time that goes on by itself between two answers of the service, in microseconds. */
function useTicking(from: number, runs: boolean): number {
  const [now, setNow] = useState(from);
  useEffect(() => {
    const began = performance.now();
    const show = () => setNow(from + (runs ? (performance.now() - began) * 1000 : 0));
    show();
    if (!runs) return undefined;
    const tick = setInterval(show, 100);
    return () => clearInterval(tick);
  }, [from, runs]);
  return now;
}

function Copy({ text, what }: { text: string; what: string }) {
  const [done, setDone] = useState(false);
  const area = useRef<HTMLTextAreaElement>(null);
  const copy = async () => {
    try {
      await navigator.clipboard.writeText(text);
    } catch {
      area.current?.select(); // a page that is not served securely has no clipboard
      document.execCommand('copy');
    }
    setDone(true);
    setTimeout(() => setDone(false), 1500);
  };
  return (
    <>
      <button type="button" onClick={() => void copy()} className="cursor-pointer rounded border border-line px-2 py-0.5 text-xs hover:bg-paper">
        {done ? 'Copied' : `Copy ${what}`}
      </button>
      <textarea ref={area} readOnly value={text} tabIndex={-1} aria-hidden="true" className="absolute -left-[9999px] size-px" />
    </>
  );
}

/** The span that is open; undefined for none. */
function openMark(h: Hand): NotedMark | undefined {
  return h.marks.find((m) => m.counts && m.until_us === null && (m.kind === 'waiting' || m.kind === 'editing'));
}

type Asking = null | 'correction' | 'suggestion' | 'note' | 'late' | 'discard' | 'answer';

// How long nothing must have been seen for the page to offer that time as waiting, in microseconds.
const LATE = 3_000_000;

const SUB: Record<'correction' | 'suggestion', [string, string, string][]> = {
  correction: [
    ['e', 'error', 'a bare error'],
    ['i', 'information', 'information'],
    ['h', 'hint', 'a hint'],
  ],
  suggestion: [
    ['t', 'taken', 'taken'],
    ['r', 'refused', 'refused'],
    ['e', 'edited', 'taken, then edited'],
  ],
};

function Key({ children }: { children: React.ReactNode }) {
  return <kbd className="rounded border border-line bg-paper px-1.5 font-mono text-xs text-ink">{children}</kbd>;
}

function Button({ k, on, onClick, disabled, children, strong = false }: { k: string; on?: boolean; onClick: () => void; disabled?: boolean; children: React.ReactNode; strong?: boolean }) {
  const look = on ? 'border-lamp bg-lamp/15 text-lamp' : strong ? 'border-water bg-water text-sheet' : 'border-line hover:bg-paper';
  return (
    <button type="button" aria-pressed={on} disabled={disabled} onClick={onClick} className={`flex cursor-pointer items-center gap-2 rounded border px-3 py-2 text-left disabled:cursor-default disabled:opacity-40 ${look}`}>
      <Key>{k}</Key>
      <span>{children}</span>
    </button>
  );
}

/** A bout that a person works: a clock, marks by single keys, what to hand over. */
export function HandPage() {
  const { id = '' } = useParams();
  const queries = useQueryClient();
  const { data: h, error } = useQuery({
    queryKey: ['hand', id],
    queryFn: () => service.hand(id),
    refetchInterval: (q) => (q.state.data?.bout.hand?.phase === 'over' ? false : 700),
  });
  const [asking, setAsking] = useState<Asking>(null);
  const [kind, setKind] = useState<string | null>(null); // the class of a correction whose words are being typed
  const [words, setWords] = useState('');
  const [sent, setSent] = useState<string | null>(null); // words that differ from those that were offered
  const [correcting, setCorrecting] = useState<NotedMark | null>(null);
  // One after the other: a key that is pressed while another one is on its way is not lost.
  const act = useMutation({
    scope: { id: `hand ${id}` },
    mutationFn: (call: () => Promise<Hand>) => call(),
    onSuccess: (next) => {
      queries.setQueryData(['hand', id], next);
      setAsking(null);
      setKind(null);
      setWords('');
    },
    onSettled: () => void queries.invalidateQueries({ queryKey: ['hand', id] }),
  });
  const phase = h?.bout.hand?.phase ?? '';
  const running = phase === 'running';
  const worked = useTicking(h?.worked_us ?? 0, running);
  const now = useTicking(h?.now_us ?? 0, running || phase === 'paused');
  const open = h && openMark(h);
  const quietFor = h?.sign_us === null || h === undefined ? 0 : now - h.sign_us;

  const mark = (body: AddMark) => act.mutate(() => service.addMark(id, body));
  const begin = () => {
    act.mutate(() => service.beginHand(id, sent ?? ''));
    setSent(null);
  };
  const toggle = (kind: 'waiting' | 'editing') => {
    if (kind === 'waiting' && !open && quietFor > LATE) setAsking('late');
    else
      act.mutate(() => {
        const latest = queries.getQueryData<Hand>(['hand', id]); // what was pressed before has been done by now
        return latest && openMark(latest)?.kind === kind ? service.endSpan(id, kind) : service.addMark(id, { kind });
      });
  };
  const finish = () => {
    if (h?.task_kind === 'question') setAsking('answer');
    else act.mutate(() => service.finishHand(id, ''));
  };
  const choose = (about: 'correction' | 'suggestion', name: string) => {
    if (about === 'suggestion') mark({ kind: about, class: name });
    else setKind(name);
  };
  const actions: Record<string, () => void> = {
    ' ': () => (act.isPending ? undefined : phase === 'ready' || phase === 'offered' ? begin() : phase === 'paused' ? act.mutate(() => service.resumeHand(id)) : running ? act.mutate(() => service.pauseHand(id)) : undefined),
    w: () => running && toggle('waiting'),
    e: () => running && toggle('editing'),
    c: () => setAsking('correction'),
    p: () => mark({ kind: 'permission' }),
    t: () => setAsking('suggestion'),
    n: () => setAsking('note'),
    f: () => (phase === 'offered' ? act.mutate(() => service.endHand(id)) : finish()),
    d: () => setAsking('discard'),
  };
  const onKey = useEffectEvent((event: KeyboardEvent) => {
    const at = event.target as HTMLElement;
    if (event.key === 'Escape') {
      setAsking(null);
      setKind(null);
      setCorrecting(null);
      return;
    }
    if (event.ctrlKey || event.metaKey || event.altKey || at.closest('input, textarea, select, a') || (at.closest('button') && (event.key === ' ' || event.key === 'Enter'))) return;
    if (phase === 'over' || phase === 'judging' || phase === 'preparing') return;
    const key = event.key.toLowerCase();
    if ((asking === 'correction' || asking === 'suggestion') && !kind) {
      const choice = SUB[asking].find(([k]) => k === key);
      if (choice) {
        event.preventDefault();
        setTimeout(() => choose(asking, choice[1]), 0); // behind this key, which is no part of the words
      }
      return;
    }
    if (asking === 'late') {
      if (key === 's' || key === 'n') {
        event.preventDefault();
        if (key === 's') mark({ kind: 'waiting', at_us: h?.sign_us ?? 0, until_us: Math.round(now) });
        else mark({ kind: 'waiting' });
      }
      return;
    }
    const action = actions[key];
    if (action && !asking) {
      event.preventDefault();
      action();
    }
  });
  useEffect(() => {
    const listen = (e: KeyboardEvent) => onKey(e);
    window.addEventListener('keydown', listen);
    return () => window.removeEventListener('keydown', listen);
  }, []);

  if (!h) return <Notice error={error} what="the bout" />;
  const started = phase === 'running' || phase === 'paused';
  const over = phase === 'over';
  const v = h.bout.verdict;
  const typing = h.task_kind === 'typing';
  const submitWords = (event: React.FormEvent) => {
    event.preventDefault();
    if (asking === 'note') mark({ kind: 'note', words });
    else if (asking === 'correction' && kind) mark({ kind: 'correction', class: kind, words });
    else if (asking === 'discard') act.mutate(() => service.discardHand(id, words));
    else if (asking === 'answer') act.mutate(() => service.finishHand(id, words));
  };
  const field = 'mt-1 block w-full rounded border border-line bg-paper px-2 py-1';
  return (
    <>
      <title>{`${clock(worked)} ${h.bout.contender} on ${h.bout.task} - Agonometer`}</title>
      <nav aria-label="Where this is" className="text-xs">
        {h.alone ? <Link to="/hand">← By hand</Link> : <Link to={`/contests/${h.bout.contest_id}`}>← {h.contest_name}</Link>}
      </nav>
      <div className="mt-1 mb-3 flex flex-wrap items-end gap-x-6 gap-y-2">
        <div>
          <h1>
            {h.bout.contender} on <Link to={`/tasks/${h.bout.task}`}>{h.bout.task}</Link>
            {h.bout.wording ? <span className="font-normal text-faint"> ({h.bout.wording})</span> : ''}
          </h1>
          <p className="text-sm text-faint">
            {visible(h.contender_title)}
            {h.bout.hand?.worker ? ` · worked by ${visible(h.bout.hand.worker)}` : ''}
            {h.bout.hand?.familiarity ? ` (${visible(h.bout.hand.familiarity)})` : ''}
          </p>
        </div>
        <p className="ml-auto text-right" role="status" data-phase={phase}>
          <span className={`block text-6xl leading-none font-light tabular-nums ${running ? '' : 'text-faint'}`}>{clock(worked)}</span>
          <span className="text-sm text-faint">
            {h.round > 0 && !over ? `round ${h.round} of work, ` : ''}
            {phase === 'judging' || phase === 'preparing' ? visible(h.bout.doing || PHASES[phase] || '') : PHASES[phase]}
            {open ? `, ${open.kind === 'waiting' ? 'it waits for you' : 'you edit'} since ${clock(open.at_us)}` : ''}
          </span>
        </p>
      </div>
      {act.error && (
        <p role="alert" className="mb-3 rounded border border-bad/40 bg-bad-soft p-3 text-bad">
          {act.error.message}
        </p>
      )}
      <div className="grid items-start gap-4 min-[1000px]:grid-cols-[minmax(0,1fr)_22rem]">
        <div className="grid gap-4">
          {over && v ? (
            <Panel title="Verdict">
              <p className="p-3">
                <Pill look={v.outcome === 'passed' ? 'passed' : v.outcome === 'failed' ? 'failed' : 'void'}>{v.outcome}</Pill> {reason(v.reason, v.check)}
                {v.detail ? `: ${visible(v.detail)}` : ''}. <Link to={`/bouts/${h.bout.id}`}>To the bout</Link>
              </p>
            </Panel>
          ) : (
            <Panel title={phase === 'offered' ? 'Say this next' : 'Words to hand over'} aside={<Copy text={sent ?? h.words} what="the words" />}>
              {phase === 'offered' && <p className="px-3 pt-2 text-sm text-lamp">A check failed. Paste this back to the tool; the next round begins at that moment.</p>}
              {sent === null ? (
                <pre className="max-h-80 overflow-auto p-3 font-mono text-xs leading-5 whitespace-pre-wrap">{visible(h.words)}</pre>
              ) : (
                <textarea aria-label="The words that you really send" className="block h-48 w-full bg-paper p-3 font-mono text-xs leading-5" value={sent} onChange={(e) => setSent(e.target.value)} />
              )}
              {(phase === 'ready' || phase === 'offered') && (
                <p className="flex flex-wrap items-center gap-3 border-t border-line p-3">
                  <Button k="space" strong disabled={act.isPending} onClick={begin}>
                    {phase === 'ready' ? 'Sent: start the clock' : `Sent: start round ${h.round + 1}`}
                  </Button>
                  {phase === 'offered' && (
                    <Button k="f" disabled={act.isPending} onClick={() => act.mutate(() => service.endHand(id))}>
                      End the bout as it is
                    </Button>
                  )}
                  <button type="button" className="cursor-pointer text-xs text-faint underline" onClick={() => setSent(sent === null ? h.words : null)}>
                    {sent === null ? 'I send other words' : 'The words as they were'}
                  </button>
                  {sent !== null && sent.trim() !== h.words && <span className="text-xs text-lamp">It will be flagged that other words were sent.</span>}
                </p>
              )}
            </Panel>
          )}
          {!over && (
            <Panel title="Marks by single keys" aside={started && h.sign_us !== null ? `last sign of life of the tool: ${clock(h.sign_us)}, ${clock(quietFor)} ago` : ''}>
              <div className="grid gap-2 p-3 sm:grid-cols-2 xl:grid-cols-3">
                <Button k="space" disabled={!started || act.isPending} onClick={() => actions[' ']?.()}>
                  {phase === 'paused' ? 'Go on' : 'Pause'}
                </Button>
                <Button k="w" on={open?.kind === 'waiting'} disabled={!running || open?.kind === 'editing'} onClick={() => toggle('waiting')}>
                  {open?.kind === 'waiting' ? 'Back to the tool' : 'It waits for me'}
                </Button>
                <Button k="e" on={open?.kind === 'editing'} disabled={!running || open?.kind === 'waiting'} onClick={() => toggle('editing')}>
                  {open?.kind === 'editing' ? 'I am done editing' : 'I edit now'}
                </Button>
                <Button k="c" on={asking === 'correction'} disabled={!started} onClick={() => setAsking('correction')}>
                  Correction sent
                </Button>
                <Button k="p" disabled={!started} onClick={() => mark({ kind: 'permission' })}>
                  Permission given
                </Button>
                <Button k="t" on={asking === 'suggestion'} disabled={!started} onClick={() => setAsking('suggestion')}>
                  Suggestion
                </Button>
                <Button k="n" on={asking === 'note'} disabled={!started} onClick={() => setAsking('note')}>
                  Note
                </Button>
                <Button k="f" strong={running} disabled={!started || act.isPending} onClick={finish}>
                  Finish and judge
                </Button>
                <Button k="d" on={asking === 'discard'} disabled={phase === 'judging' || phase === 'preparing'} onClick={() => setAsking('discard')}>
                  Throw the bout away
                </Button>
              </div>
              {asking === 'late' && (
                <div role="group" aria-label="Since when has it waited" className="border-t border-line bg-open-soft p-3">
                  <p>
                    Nothing has been seen of the tool since {clock(h.sign_us ?? 0)}. Has it waited for you all that time ({clock(quietFor)})?
                  </p>
                  <p className="mt-2 flex flex-wrap gap-2">
                    <Button k="s" onClick={() => mark({ kind: 'waiting', at_us: h.sign_us ?? 0, until_us: Math.round(now) })}>
                      Since then; I am back at it now
                    </Button>
                    <Button k="n" onClick={() => mark({ kind: 'waiting' })}>
                      From now on
                    </Button>
                  </p>
                </div>
              )}
              {(asking === 'correction' || asking === 'suggestion') && !kind && (
                <div role="group" aria-label={asking === 'correction' ? 'What was sent' : 'What became of the suggestion'} className="flex flex-wrap items-center gap-2 border-t border-line bg-open-soft p-3">
                  {SUB[asking].map(([k, name, text]) => (
                    <Button key={k} k={k} onClick={() => choose(asking, name)}>
                      {text}
                    </Button>
                  ))}
                </div>
              )}
              {(asking === 'note' || asking === 'discard' || asking === 'answer' || (asking === 'correction' && kind)) && (
                <form onSubmit={submitWords} className="border-t border-line bg-open-soft p-3">
                  <label className="text-sm">
                    {asking === 'discard' ? 'Why is the bout thrown away? It is kept, and counted.' : asking === 'answer' ? "The tool's reply" : asking === 'note' ? 'Note' : 'Its words (they may be left out)'}
                    {asking === 'answer' ? (
                      <textarea autoFocus className={`${field} h-32`} value={words} onChange={(e) => setWords(e.target.value)} />
                    ) : (
                      <input autoFocus className={field} value={words} onChange={(e) => setWords(e.target.value)} />
                    )}
                  </label>
                  <p className="mt-2 flex gap-2 text-sm">
                    <button type="submit" disabled={act.isPending} className={`cursor-pointer rounded border px-3 py-1 text-sheet ${asking === 'discard' ? 'border-bad bg-bad' : 'border-water bg-water'}`}>
                      {asking === 'discard' ? 'Throw it away' : asking === 'answer' ? 'Finish and judge' : 'Note it'}
                    </button>
                    <span className="self-center text-xs text-faint">
                      <Key>Enter</Key> or <Key>Esc</Key>
                    </span>
                  </p>
                </form>
              )}
            </Panel>
          )}
          <Panel title="Marks" aside={count(h.marks.filter((m) => m.counts).length, 'mark')}>
            {h.marks.length === 0 ? (
              <p className="p-3 text-sm text-faint">None yet. Edits to files are seen by themselves and need no mark.</p>
            ) : (
              <ul className="text-sm">
                {h.marks.map((m) => (
                  <li key={m.id} className="border-t border-line px-3 py-1 first:border-0">
                    <div className={`flex items-baseline gap-3 ${m.counts ? '' : 'text-faint line-through'}`}>
                      <span className="w-36 shrink-0 tabular-nums">{markSpan(m)}</span>
                      <span className="min-w-0 grow break-words">
                        {markWords(m)}
                        {m.taken_back ? ' (taken back)' : m.corrects ? ' (corrected)' : ''}
                      </span>
                      {m.counts && (m.until_us !== null || (m.kind !== 'waiting' && m.kind !== 'editing')) && (
                        <button type="button" className="cursor-pointer text-xs text-faint underline" onClick={() => setCorrecting(correcting?.id === m.id ? null : m)}>
                          Correct
                        </button>
                      )}
                    </div>
                    {correcting?.id === m.id && (
                      <CorrectForm
                        mark={m}
                        onDone={(body) => {
                          setCorrecting(null);
                          act.mutate(() => service.correctMark(id, m.id, body));
                        }}
                      />
                    )}
                  </li>
                ))}
              </ul>
            )}
          </Panel>
        </div>
        <div className="grid gap-4">
          {!over && (
            <Panel title="Workspace" aside={<Copy text={h.workspace} what="the path" />}>
              <p className="p-3 font-mono text-xs break-all">{h.workspace || 'being made …'}</p>
              {h.attachments.length > 0 && (
                <p className="border-t border-line p-3 text-xs">
                  With the words go:
                  {h.attachments.map((a) => (
                    <span key={a} className="block font-mono break-all">
                      {a}
                    </span>
                  ))}
                </p>
              )}
              {h.meter_url && (
                <p className="border-t border-line p-3 text-xs">
                  Where the tool can be pointed at another address of its model service, use the meter&apos;s: <Copy text={h.meter_url} what="it" />
                  <span className="block font-mono break-all">{h.meter_url}</span>
                </p>
              )}
            </Panel>
          )}
          <Panel title="Files touched" aside={count(h.files.length, 'file')}>
            {h.files.length === 0 ? (
              <p className="p-3 text-sm text-faint">{over ? 'See the bout for its change.' : 'None yet.'}</p>
            ) : (
              <ul className="max-h-72 overflow-auto py-1 text-xs">
                {h.files.map((f) => (
                  <li key={f.path} className="flex gap-2 px-3 py-0.5">
                    <span className="w-14 shrink-0 text-right tabular-nums text-faint">{clock(f.last_us)}</span>
                    <span className="min-w-0 font-mono break-all">{visible(f.path)}</span>
                  </li>
                ))}
              </ul>
            )}
          </Panel>
          <Panel title="Tokens and money" aside={h.spent.source === 'metered' ? 'metered' : h.bout.used.source === 'unknown' ? '' : h.bout.used.source}>
            <p className="px-3 pt-2 text-sm">{h.spent.tokens !== null ? usedWords(h.spent) : h.bout.used.source === 'unknown' ? 'Nothing is known yet.' : usedWords(h.bout.used)}</p>
            <UsedForm typing={typing && !over} pending={act.isPending} onDone={(body) => act.mutate(() => service.usedHand(id, body))} />
          </Panel>
        </div>
      </div>
    </>
  );
}
