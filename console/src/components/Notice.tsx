import { ServiceError } from '../api/client';

/** What is shown in the place of data that is not there: loading, or why not. */
export function Notice({ error, what }: { error: unknown; what: string }) {
  if (!error) {
    return (
      <p role="status" className="py-8 text-faint">
        Loading {what} …
      </p>
    );
  }
  if (error instanceof ServiceError && error.status === 401) {
    return (
      <div role="alert" className="mx-auto max-w-xl rounded border border-line bg-sheet p-6">
        <h1>Sign in</h1>
        <p className="mt-2">This browser is not signed in. Print a one-time link in a terminal and open it here:</p>
        <pre className="mt-3 rounded bg-paper p-3 font-mono">agonometer console</pre>
      </div>
    );
  }
  return (
    <div role="alert" className="rounded border border-bad/40 bg-bad-soft p-4 text-bad">
      {error instanceof Error ? error.message : 'Something went wrong.'}
    </div>
  );
}

export function Panel({ title, children, aside, className = '' }: { title: string; children: React.ReactNode; aside?: React.ReactNode; className?: string }) {
  return (
    <section className={`min-w-0 rounded border border-line bg-sheet ${className}`} aria-label={title}>
      <div className="flex items-baseline gap-3 border-b border-line px-3 py-2">
        <h2>{title}</h2>
        <div className="ml-auto text-xs text-faint">{aside}</div>
      </div>
      {children}
    </section>
  );
}
