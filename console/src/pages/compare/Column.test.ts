import { expect, test } from 'vitest';

import type { DiffFile, EditFinding } from '../../api/client';
import { rowsOf } from './Column';

const line = (kind: 'context' | 'added' | 'removed', text: string, old?: number, now?: number) => ({ kind, text, old, new: now });
const file = (over: Partial<DiffFile>): DiffFile =>
  ({
    path: 'src/log.js',
    status: 'changed',
    added: 2,
    removed: 1,
    hunks: [
      { heading: 'routes()', lines: [line('context', 'a', 1, 1), line('removed', 'b', 2), line('added', 'c', undefined, 2), line('context', 'd', 3, 3), line('added', 'e', undefined, 4)] },
      { heading: '', lines: [line('added', 'f', undefined, 9)] },
    ],
    ...over,
  }) as DiffFile;
const finding = (over: Partial<EditFinding>): EditFinding => ({ id: 'a', measure: 'leftovers', kind: 'todo', side: 'after', path: 'src/log.js', line: 2, why: 'w', mark: '', reason: '', by: '', at: null, ...over }) as EditFinding;

test('rows are hunks and lines, and each run of changed lines is a change', () => {
  const rows = rowsOf(file({}), []);
  expect(rows.rows.map((r) => r.line?.text ?? `@@ ${r.heading}`)).toEqual(['@@ routes()', 'a', 'b', 'c', 'd', 'e', '@@ ', 'f']);
  expect(rows.changes).toEqual([2, 5, 7]);
  expect(rows.words).toBe('');
});

test('findings lie at their lines, and those of the whole file at its name', () => {
  const rows = rowsOf(file({}), [finding({}), finding({ id: 'b', side: 'before', kind: 'guard', line: 2 }), finding({ id: 'c', measure: 'strays', kind: 'file', line: 0 }), finding({ id: 'd', path: 'other.js' })]);
  expect(rows.rows[3]?.found?.map((f) => f.id)).toEqual(['a']);
  expect(rows.rows[2]?.found?.map((f) => f.id)).toEqual(['b']);
  expect(rows.rows[5]?.found).toBeUndefined();
  expect(rows.whole?.map((f) => f.id)).toEqual(['c']);
});

test('what has no lines says why', () => {
  expect(rowsOf(undefined, []).words).toBe('does not touch it');
  expect(rowsOf(file({ binary: true, hunks: [] }), []).words).toBe('a binary file');
  expect(rowsOf(file({ status: 'mode', old_mode: '100644', new_mode: '100755', hunks: [] }), []).words).toContain('100644 → 100755');
  expect(rowsOf(file({ status: 'renamed', hunks: [] }), []).words).toBe('renamed, no lines changed');
  const cut = rowsOf(file({ cut: 12 }), []);
  expect(cut.rows.at(-1)?.heading).toContain('12 more lines');
  expect(rowsOf(undefined, []).changes).toEqual([]);
});
