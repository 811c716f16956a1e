import { describe, expect, it } from 'vitest';

import { clock, readClock, ABSENT, duration, reason, share, visible } from './format';

describe('figures', () => {
  it('shows durations as people say them', () => {
    expect([0, 999, 1000, 59_949, 61_000, 3_660_000].map(duration)).toEqual(['0 ms', '999 ms', '1.0 s', '59.9 s', '1 min 01 s', '1 h 01 min']);
  });

  it('never shows a zero for what was not measured', () => {
    expect(duration(null)).toBe(ABSENT);
    expect(share(null)).toBe(ABSENT);
    expect(share(0)).toBe('0%');
  });
});

describe('what contenders wrote', () => {
  it('has its control characters and direction marks shown', () => {
    expect(visible('a\u001b[31mred\u0000\u202etxt\u007f')).toBe('a\u241b[31mred\u2400\\u202etxt\u2421');
    expect(visible('tab\tand\nline, ü, 港')).toBe('tab\tand\nline, ü, 港');
  });
});

describe('reasons', () => {
  it('are words, with the check that decided', () => {
    expect(reason('check-failed', 'tests')).toBe('check failed: tests');
    expect(reason('a-new-one', undefined)).toBe('a-new-one');
  });
});

it('a stopwatch is written and read', () => {
  expect([0, 999_999, 65_340_000, 3_661_000_000].map(clock)).toEqual(['0:00.0', '0:00.9', '1:05.3', '1:01:01.0']);
  expect(['90', '1:05.3', '1:01:01', ' 0:00.5 '].map(readClock)).toEqual([90_000_000, 65_300_000, 3_661_000_000, 500_000]);
  for (const bad of ['', 'x', '1:2:3:4', '-1', '1:', '1..2']) expect(readClock(bad)).toBeNull();
});
