import { expect, test } from 'vitest';

import type { EditFinding, EditMeasures } from '../api/client';
import { byLine, editValue, findingLabel, inFile, inPlace, placeOf, soughtOf } from './edits';

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
  expect(placeOf({ path: 'a', side: 'before' })).toBe('a');
  expect(placeOf({ path: '' })).toBe('');
});

const figure = (over: Partial<EditMeasures['figures'][number]>) => ({ name: 'lines_added_code', measure: 'footprint', title: 'Added code', words: 'lines of code added', unit: 'lines', value: 3, why: '', at_most: null, where: [{ side: 'after', path: 'a.go', line: 2, end: 4 }], more: 0, ...over }) as EditMeasures['figures'][number];
const edits = { figures: [figure({}), figure({ name: 'covered_share', title: 'Covered', unit: 'share', value: 0.5, places_are: 'lines that no test executes', more: 7 }), figure({ name: 'hunks', where: [] })], findings: [finding({})] } as unknown as EditMeasures;

test('an address asks for a finding, or for the places of a figure', () => {
  expect(soughtOf(edits, 'a', null)?.title).toBe('commented out: w');
  expect(soughtOf(edits, 'a', null)?.places.map(placeOf)).toEqual(['a.go:3']);
  expect(soughtOf(edits, null, 'lines_added_code')).toEqual({ key: 'lines_added_code', title: 'Added code 3: lines of code added', places: [{ side: 'after', path: 'a.go', line: 2, end: 4 }], more: 0 });
  expect(soughtOf(edits, null, 'covered_share')?.title).toBe('Covered 50%: lines that no test executes');
  expect(soughtOf(edits, null, 'covered_share')?.more).toBe(7);
  for (const nothing of [soughtOf(edits, 'gone', null), soughtOf(edits, null, 'hunks'), soughtOf(edits, null, 'no_figure'), soughtOf(null, 'a', 'hunks'), soughtOf(undefined, null, null)]) expect(nothing).toBeNull();
});

test('places have the lines of their side', () => {
  const after = { side: 'after', path: 'new.go', line: 2, end: 4 };
  const before = { side: 'before', path: 'old.go', line: 7 };
  const file = { path: 'new.go', old_path: 'old.go' };
  expect([inFile(after, file), inFile(before, file), inFile({ ...after, path: 'old.go' }, file), inFile(before, { path: 'new.go' })]).toEqual([true, true, false, false]);
  expect([1, 2, 4, 5].map((n) => inPlace(after, { kind: 'added', new: n }))).toEqual([false, true, true, false]);
  expect(inPlace(after, { kind: 'removed', old: 3 })).toBe(false);
  expect(inPlace(before, { kind: 'removed', old: 7 })).toBe(true);
  expect(inPlace(before, { kind: 'added', new: 7 })).toBe(false);
  expect(inPlace(before, { kind: 'context', old: 7, new: 9 })).toBe(true);
  expect(inPlace({ side: 'after', path: 'new.go' }, { kind: 'added', new: 1 })).toBe(false);
});
