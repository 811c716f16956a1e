import type { Effort, NotedMark } from '../../api/client';
import { clock, count, duration, visible } from '../../lib/format';

/** What a bout asked of a person, in a line. */
export function effortWords(e: Effort): string {
  const parts: string[] = [];
  const add = (n: number, what: string) => n > 0 && parts.push(count(n, what));
  add(e.corrections_error, 'bare error');
  add(e.corrections_information, 'correction with information');
  add(e.corrections_hint, 'hint');
  add(e.permissions, 'permission');
  add(e.suggestions_taken, 'suggestion taken');
  add(e.suggestions_refused, 'suggestion refused');
  add(e.suggestions_edited, 'suggestion edited');
  if (e.own_edits > 0) parts.push(`own edits ${count(e.own_edits, 'time')} (+${e.own_lines_added} −${e.own_lines_removed} lines, ${duration(e.editing_ms)})`);
  if (e.waiting_ms > 0) parts.push(`the tool waited ${duration(e.waiting_ms)}`);
  if (parts.length === 0 && e.attention_ms === 0) parts.push('nobody was needed');
  else parts.push(`attention ${duration(e.attention_ms)}`);
  if (e.answered_by_rule > 0) parts.push(`${count(e.answered_by_rule, 'question')} answered by rule`);
  if (e.kept_share !== null && e.own_edits > 0) parts.push(`${Math.round(100 * e.kept_share)}% of the tool's lines kept`);
  if (e.keys !== null && e.wanted_characters !== null) parts.push(`${e.keys} keys for ${e.wanted_characters} characters`);
  return parts.join(', ');
}

const NAMES: Record<string, string> = { waiting: 'It waited for me', correction: 'Correction', permission: 'Permission', editing: 'I edited', suggestion: 'Suggestion', note: 'Note' };

/** A mark in words, without its moment. */
export function markWords(m: NotedMark): string {
  return [NAMES[m.kind] ?? m.kind, m.class ? ` (${m.class})` : '', m.words ? `: ${visible(m.words)}` : ''].join('');
}

export function markSpan(m: NotedMark): string {
  if (m.kind !== 'waiting' && m.kind !== 'editing') return clock(m.at_us);
  return `${clock(m.at_us)} to ${m.until_us === null ? '…' : clock(m.until_us)}`;
}

/** The marks of a bout; what was corrected or taken back stays readable. */
export function MarkList({ marks }: { marks: NotedMark[] }) {
  return (
    <section aria-label="Marks" className="border-t border-line">
      <h3 className="px-3 pt-2 text-sm font-medium">Marks of the person</h3>
      <ul className="px-3 py-2 text-sm">
        {marks.map((m) => (
          <li key={m.id} className={`flex gap-3 py-0.5 ${m.counts ? '' : 'text-faint line-through'}`}>
            <span className="w-36 shrink-0 tabular-nums">{markSpan(m)}</span>
            <span className="min-w-0 break-words">
              {m.taken_back ? `taken back: ${markWords(m)}` : markWords(m)}
              {m.corrects && !m.taken_back ? ' (corrected)' : ''}
              {m.reason ? ` - ${visible(m.reason)}` : ''}
            </span>
          </li>
        ))}
      </ul>
    </section>
  );
}
