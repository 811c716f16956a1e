import { useEffect, useRef, useState } from 'react';
import { useNavigate } from 'react-router';

import { service, ServiceError } from '../../api/client';
import { Notice } from '../../components/Notice';

/** Exchanges the code behind the # of a one-time link for a cookie. */
export function SignInPage() {
  const navigate = useNavigate();
  const [error, setError] = useState<unknown>(null);
  const begun = useRef(false);
  useEffect(() => {
    if (begun.current) return;
    begun.current = true;
    const code = location.hash.slice(1);
    history.replaceState(null, '', '/sign-in');
    service.signIn(code).then(
      () => navigate('/', { replace: true }),
      (err: unknown) => setError(err),
    );
  }, [navigate]);
  if (error instanceof ServiceError && error.status === 403) {
    return (
      <div role="alert" className="mx-auto max-w-xl rounded border border-line bg-sheet p-6">
        <h1>This link has been used</h1>
        <p className="mt-2">A link signs in one browser, once, within an hour. Print a new one:</p>
        <pre className="mt-3 rounded bg-paper p-3 font-mono">agonometer console</pre>
      </div>
    );
  }
  return <Notice error={error} what="your session" />;
}
