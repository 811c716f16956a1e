import { useEffect, useState } from 'react';

export type Theme = 'light' | 'dark';

const KEY = 'agonometer-theme';

function chosen(): Theme {
  const kept = localStorage.getItem(KEY);
  if (kept === 'light' || kept === 'dark') return kept;
  return matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
}

/** The colour theme: what the system says, until somebody chooses. */
export function useTheme(): [Theme, () => void] {
  const [theme, setTheme] = useState<Theme>(chosen);
  useEffect(() => {
    document.documentElement.dataset.theme = theme;
  }, [theme]);
  const toggle = () => {
    const next = theme === 'dark' ? 'light' : 'dark';
    localStorage.setItem(KEY, next);
    setTheme(next);
  };
  return [theme, toggle];
}
