// How figures and findings of the edit measures are said.
import type { DiffFile, EditFigure, EditFinding, EditMeasures } from '../api/client';
import { ABSENT } from './format';

/** A figure's value as people read it. */
export function editValue(unit: string | undefined, value: number | null | undefined): string {
  if (value === null || value === undefined) return ABSENT;
  if (unit === 'share') return `${Math.round(value * 100)}%`;
  if (unit === 'x') return `${value.toFixed(2)} ×`;
  if (unit === 'yes/no' && (value === 0 || value === 1)) return value ? 'yes' : 'no';
  return String(Math.round(value * 100) / 100);
}

/** What a finding is called beside the line that it was found in. */
export function findingLabel(f: EditFinding): string {
  return f.measure === 'strays' ? (f.mark && f.mark !== 'aside' ? `stray, ${f.mark}` : 'stray') : f.kind.replaceAll('-', ' ');
}

/** Measures whose findings are facts about tests, not things to look into. */
export function quiet(f: EditFinding): boolean {
  return f.mark === 'aside' || (f.measure === 'tests' && f.kind === 'added');
}

/** Where a finding is, in words. */
export function placeOf(f: { path: string; line?: number; end?: number; side?: string }): string {
  if (!f.path) return '';
  const lines = f.line ? `:${f.line}${f.end && f.end > f.line ? `-${f.end}` : ''}` : '';
  return `${f.path}${lines}${lines && f.side === 'before' ? ' (before)' : ''}`;
}

/** A stretch of lines of a file; a file as a whole has no line. */
export type Place = EditFigure['where'][number];

/** What is looked for in a change: a finding, or the places of a figure. */
export interface Sought {
  /** Tells it from others. */
  key: string;
  title: string;
  places: Place[];
  /** How many places there are beside these. */
  more: number;
}

/** What an address asks for: at is a finding's id, figure a figure's name. */
export function soughtOf(edits: EditMeasures | null | undefined, at: string | null, figure: string | null): Sought | null {
  const finding = edits?.findings.find((f) => f.id === at);
  if (finding) return { key: finding.id, title: `${findingLabel(finding)}: ${finding.why}`, places: [finding], more: 0 };
  const f = edits?.figures.find((f) => f.name === figure);
  if (f && f.where.length > 0) return { key: f.name, title: `${f.title} ${editValue(f.unit, f.value)}: ${f.places_are ?? f.words}`, places: f.where, more: f.more };
  return null;
}

/** Whether a place is in a changed file. */
export function inFile(p: Place, file: Pick<DiffFile, 'path' | 'old_path'>): boolean {
  return p.path === file.path || (p.side === 'before' && p.path === file.old_path);
}

/** Whether a line of a file's change lies in a place of that file. */
export function inPlace(p: Place, l: { kind: string; old?: number; new?: number }): boolean {
  if (!p.line || l.kind === (p.side === 'before' ? 'added' : 'removed')) return false;
  const n = (p.side === 'before' ? l.old : l.new) ?? 0;
  return n >= p.line && n <= Math.max(p.line, p.end ?? 0);
}

/** The findings of each line of a file's change: keys are 'before 12' and 'after 7', and 'file'. */
export function byLine(findings: EditFinding[], path: string, oldPath: string | undefined): Map<string, EditFinding[]> {
  const out = new Map<string, EditFinding[]>();
  for (const f of findings) {
    if (f.path !== path && !(f.side === 'before' && f.path === oldPath)) continue;
    const key = f.line ? `${f.side} ${f.line}` : 'file';
    out.set(key, [...(out.get(key) ?? []), f]);
  }
  return out;
}

/** The figures of a measure that say something: not those that are always there and nought. */
export function telling(figures: EditFigure[], measure: string): EditFigure[] {
  return figures.filter((f) => f.measure === measure && (f.value !== 0 || !/^(lines|files)_/.test(f.name)));
}
