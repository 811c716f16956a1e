import { describe, expect, it } from 'vitest';

import { ABSENT } from './format';
import { moneyRange, money, tokens, usedWords } from './ledger';

describe('tokens and money', () => {
  it('never shows a zero for what was not counted', () => {
    expect(tokens(null)).toBe(ABSENT);
    expect(tokens(0)).toBe('0');
    expect(money(null)).toBe(ABSENT);
    expect(usedWords({ source: 'unknown', tokens: null, at_least: false, money: null, money_at_least: false, money_range: null })).toContain('not known');
    expect(usedWords({ source: 'metered', tokens: null, at_least: true, money: null, money_at_least: false, money_range: null })).toBe('tokens not counted (metered)');
  });

  it('marks what is only a part', () => {
    expect(tokens(1234567, true)).toBe('≥ 1,234,567');
    expect(money('0.5 AVM', true)).toBe('≥ 0.5000 AVM');
  });

  it('shows four significant digits of exact money', () => {
    expect(['0 AVM', '0.000003 AVM', '0.138156 AVM', '12.3456 AVM'].map((m) => money(m))).toEqual(['0.00 AVM', '0.000003000 AVM', '0.1382 AVM', '12.35 AVM']);
  });

  it('says where a figure is from', () => {
    expect(usedWords({ source: 'reported', tokens: 7, at_least: false, money: '0.5 AVM', money_at_least: false, money_range: null })).toBe('7 tokens, 0.5000 AVM (reported)');
  });
});

it('money that is a range stays one', () => {
  const range = { from: '0.34 AVM', to: '0.38 AVM' };
  expect(moneyRange(range)).toBe('0.3400 to 0.3800 AVM');
  expect(usedWords({ source: 'typed-in', tokens: null, at_least: true, money: null, money_at_least: false, money_range: range })).toBe('0.3400 to 0.3800 AVM (typed-in)');
});
