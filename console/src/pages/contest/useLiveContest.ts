import { useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect } from 'react';

import { service } from '../../api/client';

/**
 * A contest that keeps itself up to date: the live feed says that something has
 * happened, and the contest is read again. The feed begins behind the event that
 * the first answer takes into account, so nothing falls between the two.
 */
export function useLiveContest(id: string) {
  const queries = useQueryClient();
  const query = useQuery({ queryKey: ['contest', id], queryFn: () => service.contest(id) });
  const open = query.data !== undefined && !['done', 'stopped'].includes(query.data.state);
  const from = open ? query.data.last_event_id : null;
  const following = from !== null;
  useEffect(() => {
    if (!following) return undefined;
    const feed = service.eventsOf(id, queries.getQueryData<{ last_event_id: number }>(['contest', id])?.last_event_id ?? 0);
    let soon: ReturnType<typeof setTimeout> | undefined;
    const changed = () => {
      soon ??= setTimeout(() => {
        soon = undefined;
        void queries.invalidateQueries({ queryKey: ['contest', id] });
      }, 120);
    };
    // What a running bout uses changes often: it is read again less eagerly.
    let later: ReturnType<typeof setTimeout> | undefined;
    const happened = () => {
      later ??= setTimeout(() => {
        later = undefined;
        changed();
      }, 800);
    };
    feed.addEventListener('happened', happened);
    feed.addEventListener('bout', changed);
    feed.addEventListener('contest', changed);
    feed.addEventListener('open', changed);
    return () => {
      feed.close();
      clearTimeout(soon);
      clearTimeout(later);
    };
  }, [id, following, queries]);
  return query;
}
