import { HIDDEN } from './hidden';
// Figures and texts as people read them. A figure that was not measured is a
// dash, never a zero.

export const ABSENT = '–';

export function duration(ms: number | null | undefined): string {
  if (ms === null || ms === undefined) return ABSENT;
  if (ms < 1000) return `${Math.round(ms)} ms`;
  if (ms < 60_000) return `${(ms / 1000).toFixed(1)} s`;
  const minutes = Math.floor(ms / 60_000);
  if (minutes < 60) return `${minutes} min ${String(Math.floor(ms / 1000) % 60).padStart(2, '0')} s`;
  return `${Math.floor(minutes / 60)} h ${String(minutes % 60).padStart(2, '0')} min`;
}

/** The time on a stopwatch: minutes, seconds and tenths. */
export function clock(us: number): string {
  const tenths = Math.max(0, Math.floor(us / 100_000));
  const minutes = Math.floor(tenths / 600);
  const rest = `${String(Math.floor(tenths / 10) % 60).padStart(2, '0')}.${tenths % 10}`;
  return minutes < 60 ? `${minutes}:${rest}` : `${Math.floor(minutes / 60)}:${String(minutes % 60).padStart(2, '0')}:${rest}`;
}

/** Reads a moment on a stopwatch, such as 1:05.3 or 90, in microseconds; null where it is none. */
export function readClock(text: string): number | null {
  const parts = text.trim().split(':');
  if (parts.length > 3 || !parts.every((p, i) => (i === parts.length - 1 ? /^\d+(\.\d+)?$/ : /^\d+$/).test(p))) return null;
  return Math.round(parts.reduce((sum, p) => 60 * sum + Number(p), 0) * 1_000_000);
}

export function figure(value: number | null | undefined): string {
  return value === null || value === undefined ? ABSENT : String(value);
}

export function share(value: number | null): string {
  return value === null ? ABSENT : `${Math.round(value * 100)}%`;
}

export function bytes(n: number | null): string {
  return n === null ? ABSENT : `${(n / (1 << 20)).toFixed(1)} MiB`;
}

export function count(n: number, what: string): string {
  return `${n} ${what}${n === 1 ? '' : 's'}`;
}

export function when(iso: string): string {
  return new Date(iso).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' });
}

/** Makes what a contender wrote safe to look at: hidden characters are shown. */
export function visible(text: string): string {
  return text.replace(HIDDEN, (c) => {
    const code = c.codePointAt(0) ?? 0;
    if (code < 0x20) return String.fromCharCode(0x2400 + code);
    if (code === 0x7f) return '\u2421';
    if (code > 0xffff) return `\\u{${code.toString(16)}}`;
    return `\\u${code.toString(16).padStart(4, '0')}`;
  });
}

const REASONS: Record<string, string> = {
  'harness-fault': 'Agonometer or its machine failed',
  'prepare-failed': "the task's prepare command failed",
  interrupted: 'the service stopped in the middle',
  'stopped-by-person': 'stopped by a person',
  discarded: 'thrown away by the person who worked it',
  'cannot-start': "the tool's program could not be started",
  'quiet-limit': 'nothing was seen of the tool for too long',
  'token-limit': 'all the tokens that it may use were used',
  'spend-limit': 'all the money that it may spend was spent',
  'memory-limit': 'more memory was used than may be',
  'disk-limit': 'more was written than may be',
  'cpu-limit': 'more CPU time was used than may be',
  'own-flood': "the model service refused after a flood of the tool's own requests",
  'handshake-failed': 'the tool was started and did not begin to work',
  'check-subverted': 'a check does not see a test fail that must',
  'edits-beyond': 'the change is beyond what the task allows',
  refused: 'the model service refused to work',
  'other-model': 'another model replied than may reply',
  'time-limit': 'still working at the time limit',
  'tool-crashed': 'the tool ended in error and changed nothing',
  'no-change': 'the tool changed nothing',
  'check-failed': 'check failed',
  'check-timeout': 'check did not end in its time',
  'checks-passed': 'every check passed',
  'goals-missed': 'not everything that was wanted is there',
  'guards-broken': 'something that worked before does not work any more',
  'tests-weakened': 'the tests were weakened',
  'files-changed': 'files were changed although nothing was to change',
  'check-cannot-run': 'a check names a program that is not there',
  'reference-fails': "the task's own reference does not pass on this machine",
};

export function reason(code: string, check: string | undefined): string {
  const words = REASONS[code] ?? code;
  return check ? `${words}: ${check}` : words;
}
