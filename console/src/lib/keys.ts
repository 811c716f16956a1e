import { useLayoutEffect } from 'react';

/** Calls what a single key stands for, except where somebody is writing. */
export function useKeys(keys: Record<string, () => void>) {
  // With the page that it draws, not a moment after: a key in between would act on what was.
  useLayoutEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || (e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))) return;
      keys[e.key]?.();
    };
    addEventListener('keydown', press);
    return () => removeEventListener('keydown', press);
  });
}
