import { expect, test } from 'vitest';

import type { DiffFile, EditFinding } from '../../api/client';
import { align, type Aligned } from './align';

const line = (kind: 'context' | 'added' | 'removed', text: string, old?: number, now?: number) => ({ kind, text, ...(old !== undefined && { old }), ...(now !== undefined && { new: now }) });
const file = (over: Partial<DiffFile>): DiffFile => ({ path: 'src/log.js', status: 'changed', added: 0, removed: 0, hunks: [], ...over }) as DiffFile;
const finding = (over: Partial<EditFinding>): EditFinding => ({ id: 'a', measure: 'leftovers', kind: 'todo', side: 'after', path: 'src/log.js', line: 2, why: 'w', mark: '', reason: '', by: '', at: null, ...over }) as EditFinding;

const SIGN: Record<string, string> = { added: '+', removed: '-', context: ' ' };

/** Rows as text: what each result has there, with its sign and number; in brackets what it leaves as it is. */
const text = (a: Aligned) =>
  a.rows.map((r) =>
    r.heading !== undefined
      ? `@@ ${r.heading}`
      : r.cells
          .map((c) => {
            if (!c) return '.';
            const words = `${SIGN[c.kind]}${c.number ?? ''} ${c.text}`;
            return c.own ? words : `(${words.trim()})`;
          })
          .join(' | '),
  );

const mended = file({
  hunks: [
    { heading: 'routes()', lines: [line('context', 'a', 1, 1), line('removed', 'b', 2), line('added', 'B', undefined, 2), line('added', 'B2', undefined, 3), line('context', 'c', 3, 4)] },
    { heading: 'end()', lines: [line('context', 'x', 9, 10), line('added', 'y', undefined, 11)] },
  ],
});
const other = file({ hunks: [{ heading: '', lines: [line('context', 'b', 2, 2), line('removed', 'c', 3), line('context', 'd', 4, 3)] }] });

test('the same line of the start is in the same row', () => {
  const a = align([mended, other, undefined], [[], [], []]);
  expect(text(a)).toEqual([
    '@@ routes()',
    ' 1 a | (1 a) | (1 a)',
    '-2 b |  2 b | (2 b)',
    '+2 B | . | .',
    '+3 B2 | . | .',
    ' 4 c | -3 c | (3 c)',
    '(5 d) |  3 d | (4 d)',
    '@@ end()',
    ' 10 x | (8 x) | (9 x)',
    '+11 y | . | .',
  ]);
  expect(a.changes).toEqual([
    { from: 2, to: 6 },
    { from: 9, to: 10 },
  ]);
  expect(a.heads.map((h) => h.words)).toEqual(['', '', 'does not touch it']);
});

test('what several add below a line begins in the same row', () => {
  const added = (texts: string[]) => file({ hunks: [{ heading: '', lines: [line('context', 'a', 1, 1), ...texts.map((t, i) => line('added', t, undefined, 2 + i))] }] });
  expect(text(align([added(['1', '2']), added([]), added(['3'])], [[], [], []]))).toEqual([' 1 a |  1 a |  1 a', '+2 1 | . | +2 3', '+3 2 | . | .']);
});

test('a new file has no line of the start', () => {
  const made = file({ status: 'added', hunks: [{ heading: '', lines: [line('added', 'a', undefined, 1), line('added', 'b', undefined, 2)] }] });
  expect(text(align([made, undefined, made], [[], [], []]))).toEqual(['+1 a | . | +1 a', '+2 b | . | +2 b']);
});

test('nothing is filled in where the starts differ, or behind what is cut off', () => {
  const stranger = file({ hunks: [{ heading: '', lines: [line('context', 'q', 2, 2), line('removed', 'c', 3)] }] });
  expect(text(align([mended, stranger], [[], []])).slice(1, 4)).toEqual([' 1 a | .', '-2 b |  2 q', '+2 B | .']);
  const cut = align([mended, { ...other, cut: 12 }], [[], []]);
  expect(text(cut).at(-2)).toBe(' 10 x | .');
  expect(cut.heads[1]?.cut).toBe(12);
});

test('findings lie at their lines, and those of the whole file at its name', () => {
  const a = align([mended], [[finding({}), finding({ id: 'b', side: 'before', kind: 'guard', line: 2 }), finding({ id: 'c', measure: 'strays', kind: 'file', line: 0 }), finding({ id: 'd', path: 'other.js' })]]);
  const found = a.rows.map((r) => r.cells[0]?.found?.map((f) => f.id).join() ?? '');
  expect(found.slice(0, 5)).toEqual(['', '', 'b', 'a', '']);
  expect(a.heads[0]?.whole?.map((f) => f.id)).toEqual(['c']);
});

test('what has no lines says why', () => {
  const words = (f: DiffFile | undefined) => align([f], [[]]).heads[0]?.words;
  expect(words(undefined)).toBe('does not touch it');
  expect(words(file({ binary: true }))).toBe('a binary file');
  expect(words(file({ status: 'mode', old_mode: '100644', new_mode: '100755' }))).toContain('100644 → 100755');
  expect(words(file({ status: 'renamed' }))).toBe('renamed, no lines changed');
  expect(align([], [])).toEqual({ rows: [], changes: [], heads: [] });
});

/** A change of a start made of dice: its diff with three lines around, and its result. */
function made(start: string[], dice: () => number): { file: DiffFile; result: string[] } {
  const all: ReturnType<typeof line>[] = [];
  const result: string[] = [];
  start.forEach((t, i) => {
    if (dice() < 0.1) all.push(line('removed', t, i + 1));
    else {
      result.push(t);
      all.push(line('context', t, i + 1, result.length));
    }
    for (let k = 0; dice() < 0.15 && k < 4; k++) {
      result.push(`new ${k}`);
      all.push(line('added', `new ${k}`, undefined, result.length));
    }
  });
  const near = all.map((_, i) => all.slice(Math.max(0, i - 3), i + 4).some((l) => l.kind !== 'context'));
  const hunks: DiffFile['hunks'] = [];
  all.forEach((l, i) => {
    if (!near[i]) return;
    if (!near[i - 1]) hunks.push({ heading: '', lines: [] });
    hunks.at(-1)?.lines.push(l);
  });
  return { file: file({ hunks }), result };
}

test('whatever was changed, every line is there once, at its number and beside the others', () => {
  let seed = 2031;
  const dice = () => (seed = (seed * 48271) % 2147483647) / 2147483647;
  for (let run = 0; run < 100; run++) {
    const start = Array.from({ length: 40 }, (_, i) => `line ${i + 1}`);
    const ways = [made(start, dice), made(start, dice), made(start, dice)];
    const a = align(
      ways.map((w) => w.file),
      [[], [], []],
    );
    ways.forEach((w, i) => {
      const own: string[] = [];
      const wrong: unknown[] = [];
      let last = 0;
      for (const r of a.rows) {
        const c = r.cells[i];
        if (!c) continue;
        const n = c.number ?? 0;
        if ((c.kind === 'removed' ? start[n - 1] : w.result[n - 1]) !== c.text) wrong.push(c);
        if (c.kind !== 'removed') {
          if (n <= last) wrong.push(c);
          last = n;
        }
        if (c.own) own.push(`${c.kind} ${c.text}`);
      }
      expect(wrong).toEqual([]);
      expect(own).toEqual(w.file.hunks.flatMap((h) => h.lines.map((l) => `${l.kind} ${l.text}`)));
    });
    expect(a.rows.filter((r) => new Set(r.cells.filter((c) => c && c.kind !== 'added').map((c) => c?.text)).size > 1)).toEqual([]);
    const changed = a.rows.flatMap((r, i) => (r.cells.some((c) => c && c.kind !== 'context') ? [i] : []));
    expect(a.changes.flatMap((c) => Array.from({ length: c.to - c.from }, (_, k) => c.from + k))).toEqual(changed);
  }
});
