import type { DiffFile, EditFinding } from '../../api/client';
import { byLine } from '../../lib/edits';
import { marksOf } from '../bout/DiffView';

type Line = DiffFile['hunks'][number]['lines'][number];

/** A line of one result: own where its change shows it, otherwise a line of the start that it leaves as it is. */
export interface Cell {
  kind: string;
  text: string;
  /** Its number in the result, or of a removed line that in the start; absent where it is not known. */
  number: number | undefined;
  own: boolean;
  found: EditFinding[] | undefined;
}

/** A row over all results; a heading stands where lines of the start are left out. */
export interface Row {
  heading?: string;
  cells: (Cell | null)[];
}

/** What is said of a file of one result beside its lines. */
export interface Head {
  whole: EditFinding[] | undefined;
  /** Why there are no lines; '' where there are. */
  words: string;
  /** How many lines are left out at the end. */
  cut: number;
}

export interface Aligned {
  rows: Row[];
  /** Where runs of changed lines begin and end (the row behind), whoever changed them. */
  changes: { from: number; to: number }[];
  heads: Head[];
}

/** A file's change by the lines of the start: what it says of each, and what it adds below each. */
interface Column {
  old: Map<number, Line>;
  added: Map<number, Line[]>;
  headings: Map<number, string>;
  last: number;
}

function columnOf(file: DiffFile | undefined): Column {
  const c: Column = { old: new Map(), added: new Map(), headings: new Map(), last: 0 };
  for (const h of file?.hunks ?? []) {
    const first = h.lines.find((l) => l.old !== undefined)?.old;
    let at = first === undefined ? c.last : first - 1;
    c.headings.set(first ?? at, h.heading);
    for (const l of h.lines) {
      if (l.old !== undefined) {
        at = l.old;
        c.old.set(at, l);
      } else c.added.set(at, [...(c.added.get(at) ?? []), l]);
    }
    c.last = Math.max(c.last, at);
  }
  return c;
}

function headOf(file: DiffFile | undefined, marks: Map<string, EditFinding[]>): Head {
  const words = !file
    ? 'does not touch it'
    : file.binary
      ? 'a binary file'
      : file.status === 'mode'
        ? `only the mode changed: ${file.old_mode} → ${file.new_mode}`
        : file.hunks.length === 0
          ? `${file.status}, no lines changed`
          : '';
  return { whole: marks.get('file'), words, cut: file?.cut ?? 0 };
}

/**
 * The changes that several results make to one file, line by line of the start that they
 * have in common: the same line of the start is in the same row, and what they add below
 * it begins in the same row.
 */
export function align(files: (DiffFile | undefined)[], findings: EditFinding[][]): Aligned {
  const columns = files.map(columnOf);
  const marks = files.map((f, i) => (f ? byLine(findings[i] ?? [], f.path, f.old_path) : new Map<string, EditFinding[]>()));
  const places = [...new Set(columns.flatMap((c) => [...c.old.keys(), ...c.added.keys()]))].sort((a, b) => a - b);
  // Where two of them show other words in the same line they did not start from the same file.
  const sameStart = places.every((n) => new Set(columns.flatMap((c) => c.old.get(n)?.text ?? [])).size < 2);
  const shift = files.map(() => 0); // from the numbers of the start to those of the result
  const rows: Row[] = [];
  const changes: Aligned['changes'] = [];
  const put = (row: Row) => {
    if (row.cells.some((c) => c && c.kind !== 'context')) {
      const last = changes.at(-1);
      if (last?.to === rows.length) last.to++;
      else changes.push({ from: rows.length, to: rows.length + 1 });
    }
    rows.push(row);
  };
  const cell = (i: number, l: Line): Cell => ({ kind: l.kind, text: l.text, number: l.new ?? l.old, own: true, found: marksOf(marks[i] ?? new Map<string, EditFinding[]>(), l) });
  let before = 0;
  for (const n of places) {
    const heading = columns.map((c) => c.headings.get(n)).find((h) => h !== undefined);
    if (n > before + 1 || (rows.length === 0 && heading)) put({ heading: heading ?? '', cells: [] });
    before = n;
    const text = columns.map((c) => c.old.get(n)?.text).find((t) => t !== undefined);
    if (text !== undefined) {
      put({
        cells: columns.map((c, i) => {
          const line = c.old.get(n);
          if (line) return cell(i, line);
          if (!sameStart || (files[i]?.cut && n > c.last)) return null;
          return { kind: 'context', text, number: n + (shift[i] ?? 0), own: false, found: undefined };
        }),
      });
    }
    const added = columns.map((c) => c.added.get(n) ?? []);
    for (let k = 0; k < Math.max(...added.map((a) => a.length)); k++)
      put({
        cells: added.map((a, i) => {
          const line = a[k];
          return line ? cell(i, line) : null;
        }),
      });
    columns.forEach((c, i) => (shift[i] = (shift[i] ?? 0) + (added[i]?.length ?? 0) - (c.old.get(n)?.kind === 'removed' ? 1 : 0)));
  }
  return { rows, changes, heads: files.map((f, i) => headOf(f, marks[i] ?? new Map<string, EditFinding[]>())) };
}
