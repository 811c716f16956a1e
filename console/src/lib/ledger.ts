import type { Used } from '../api/client';
import { ABSENT } from './format';

/** A count of tokens; one of which a part is missing says so. */
export function tokens(n: number | null | undefined, atLeast = false): string {
  if (n === null || n === undefined) return ABSENT;
  return `${atLeast ? '≥ ' : ''}${n.toLocaleString('en')}`;
}

/** Exact money, such as "0.00123 AVM", to four significant digits; the exact sum belongs in a title. */
export function money(exact: string | null | undefined, atLeast = false): string {
  if (!exact) return ABSENT;
  const [amount = '0', currency = ''] = exact.split(' ');
  const value = Number(amount);
  const digits = value > 0 && value < 10 ? Math.min(9, Math.max(2, 3 - Math.floor(Math.log10(value)))) : 2;
  return `${atLeast ? '≥ ' : ''}${value.toFixed(digits)} ${currency}`;
}

/** Money that is only known to lie between two amounts. */
export function moneyRange(range: { from: string; to: string }, atLeast = false): string {
  return `${money(range.from, atLeast).split(' ').slice(0, -1).join(' ')} to ${money(range.to)}`;
}

/** What a bout used in one line, with where that is from. */
export function usedWords(u: Used): string {
  if (u.source === '' || u.source === 'unknown') return 'not known: no meter, no report';
  const parts = u.tokens === null && (u.money || u.money_range) ? [] : [u.tokens === null ? 'tokens not counted' : `${tokens(u.tokens, u.at_least)} tokens`];
  if (u.money_range) parts.push(moneyRange(u.money_range, u.money_at_least));
  else if (u.money) parts.push(money(u.money, u.money_at_least));
  return `${parts.join(', ')} (${u.source})`;
}
