import { expect, test } from 'vitest';

import type { EditFinding } from '../api/client';
import { byLine, editValue, findingLabel, placeOf } from './edits';

const finding = (over: Partial<EditFinding>): EditFinding => ({ id: 'a', measure: 'leftovers', kind: 'commented-out', side: 'after', path: 'a.go', line: 3, why: 'w', mark: '', reason: '', by: '', at: null, ...over }) as EditFinding;

test('figures are said by their unit', () => {
  expect(editValue('share', 0.655)).toBe('66%');
  expect(editValue('x', 1.5)).toBe('1.50 ×');
  expect(editValue('yes/no', 1)).toBe('yes');
  expect(editValue('yes/no', 0.5)).toBe('0.5');
  expect(editValue('', null)).toBe('–');
  expect(editValue(undefined, 1 / 3)).toBe('0.33');
});

test('findings are found by the lines of either side', () => {
  const all = [finding({}), finding({ id: 'b', side: 'before', path: 'old.go', line: 3 }), finding({ id: 'c', line: 0 }), finding({ id: 'd', path: 'b.go' })];
  const lines = byLine(all, 'a.go', 'old.go');
  expect(lines.get('after 3')?.map((f) => f.id)).toEqual(['a']);
  expect(lines.get('before 3')?.map((f) => f.id)).toEqual(['b']);
  expect(lines.get('file')?.map((f) => f.id)).toEqual(['c']);
});

test('findings have names and places', () => {
  expect(findingLabel(finding({}))).toBe('commented out');
  expect(findingLabel(finding({ measure: 'strays', kind: 'file', mark: 'welcome' }))).toBe('stray, welcome');
  expect(placeOf({ path: 'a', line: 2, end: 4, side: 'before' })).toBe('a:2-4 (before)');
  expect(placeOf({ path: '' })).toBe('');
});
