import { useEffect } from 'react';

/** Calls what a single key stands for, except where somebody is writing. */
export function useKeys(keys: Record<string, () => void>) {
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || (e.target instanceof HTMLElement && /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))) return;
      keys[e.key]?.();
    };
    addEventListener('keydown', press);
    return () => removeEventListener('keydown', press);
  });
}
