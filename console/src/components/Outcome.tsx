import type { Bout } from '../api/client';

export type Look = 'passed' | 'failed' | 'void' | 'running' | 'waiting';

/** How a bout looks: by its verdict, or by its state while it has none. */
export function lookOf(bout: Bout): Look {
  if (bout.verdict) return bout.verdict.outcome as Look;
  return bout.state === 'waiting' ? 'waiting' : 'running';
}

const COLOURS: Record<Look, string> = {
  passed: 'text-good bg-good-soft border-good/40',
  failed: 'text-bad bg-bad-soft border-bad/40',
  void: 'text-open bg-open-soft border-open/40 border-dashed',
  running: 'text-water bg-water-soft border-water/40',
  waiting: 'text-faint bg-transparent border-line',
};

export const colours = (look: Look) => COLOURS[look];

/** The mark of an outcome: its shape says what its colour says. */
export function Mark({ look }: { look: Look }) {
  return (
    <svg viewBox="0 0 12 12" className={`inline-block size-3 shrink-0 ${look === 'running' ? 'working' : ''}`} aria-hidden="true">
      {look === 'passed' && <circle cx="6" cy="6" r="5" fill="currentColor" />}
      {look === 'failed' && <path d="M2 2l8 8M10 2l-8 8" stroke="currentColor" strokeWidth="2.4" strokeLinecap="round" />}
      {look === 'void' && <circle cx="6" cy="6" r="4.2" fill="none" stroke="currentColor" strokeWidth="1.6" />}
      {look === 'running' && <path d="M3 1.5v9l7.5-4.5z" fill="currentColor" />}
      {look === 'waiting' && <circle cx="6" cy="6" r="1.6" fill="currentColor" />}
    </svg>
  );
}

export function Pill({ look, children }: { look: Look; children: React.ReactNode }) {
  return (
    <span className={`inline-flex items-center gap-1.5 rounded border px-2 py-0.5 text-xs font-medium ${colours(look)}`}>
      <Mark look={look} />
      {children}
    </span>
  );
}
