import { Link, Outlet } from 'react-router';

import { useTheme } from '../lib/theme';

/** The page around every page. */
export function Frame() {
  const [theme, toggle] = useTheme();
  return (
    <div className="min-h-screen">
      <a href="#main" className="sr-only focus:not-sr-only focus:absolute focus:left-2 focus:top-2 focus:bg-sheet focus:p-2">
        To the content
      </a>
      <header className="border-b border-line bg-sheet">
        <div className="mx-auto flex max-w-[1500px] items-center gap-3 px-4 py-2">
          <Link to="/" className="flex items-center gap-2 font-semibold text-ink no-underline">
            <img src="/mark.svg" alt="" className="size-6" />
            Agonometer
          </Link>
          <nav aria-label="Main" className="ml-4">
            <Link to="/" className="no-underline hover:underline">
              Contests
            </Link>
            {[
              ['/tasks', 'Tasks'],
              ['/contenders', 'Contenders'],
              ['/hand', 'By hand'],
            ].map(([to = '', name]) => (
              <Link key={to} to={to} className="ml-4 no-underline hover:underline">
                {name}
              </Link>
            ))}
          </nav>
          <button type="button" onClick={toggle} className="ml-auto cursor-pointer rounded border border-line px-2 py-1 text-xs text-faint hover:text-ink">
            {theme === 'dark' ? 'Light' : 'Dark'} colours
          </button>
        </div>
      </header>
      <main id="main" className="mx-auto max-w-[1500px] px-4 py-4">
        <Outlet />
      </main>
    </div>
  );
}
