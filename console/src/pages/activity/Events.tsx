import { Button, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';
import { api } from '../../api/door';
import { many, when } from '../../api/times';
import type { Taken } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { Empty, Failed, Loading } from '../../look/States';
import styles from './Activity.module.css';

/** What came of an event, by shape and in words. */
function outcomeOf({ outcome }: Taken): { sign: Sign; says: string } {
  const by = outcome.matched.length > 0 ? ` by ${outcome.matched.join(', ')}` : '';
  if (outcome.setAside)
    return { sign: 'aside', says: `set aside: ${outcome.setAside.rules.map((r) => r.reason).join('; ')}` };
  if (outcome.notifications.length > 0) {
    return { sign: 'read', says: `${many(outcome.notifications.length, 'notification')}${by}` };
  }
  if (outcome.gathering) return { sign: 'dispatched', says: `gathering${by}` };
  return { sign: 'unmet', says: `nothing to send${by}` };
}

/** Events that were taken, and what rules made of them. */
export function Events() {
  const { space } = useHere();
  const [type, setType] = useState('');
  const [settled] = useDebouncedValue(type, 250);
  const list = useInfiniteQuery({
    queryKey: [space, 'events', settled],
    initialPageParam: `/v1/events?limit=50${settled && `&type=${encodeURIComponent(settled)}`}`,
    queryFn: ({ pageParam }) => api(space).page<{ events: Taken[] }>(pageParam),
    getNextPageParam: (last) => last.next,
    refetchInterval: 3000,
  });
  const events = list.data?.pages.flatMap((p) => p.value.events) ?? [];
  return (
    <>
      <div className={styles.eventFilter}>
        <TextInput
          aria-label="Type"
          placeholder="Any type, engine.*"
          value={type}
          onChange={(e) => setType(e.currentTarget.value)}
        />
      </div>
      {list.error && <Failed error={list.error} onRetry={() => void list.refetch()} />}
      {list.isPending && <Loading />}
      {list.data && events.length === 0 && (
        <Empty title={settled ? `No event of the type ${settled}` : 'No event was taken yet'}>
          Events that no rule matches are counted under Rules, and not kept.
        </Empty>
      )}
      <ul>
        {events.map((event) => {
          const { sign, says } = outcomeOf(event);
          const [first] = event.outcome.notifications;
          return (
            <li key={`${event.source} ${event.id}`} className={styles.event}>
              <time title={event.time}>{when(event.time)}</time>
              <span>
                <b>{event.type}</b>
                <small>
                  {event.source} {event.id}
                  {event.subject && ` about ${event.subject}`}
                </small>
              </span>
              <span className={styles.outcome}>
                <Glyph sign={sign} />
                {first ? <Link href={`/activity/${first.id}`}>{says}</Link> : says}
              </span>
            </li>
          );
        })}
      </ul>
      {list.hasNextPage && (
        <Button mt="md" variant="default" onClick={() => void list.fetchNextPage()} loading={list.isFetchingNextPage}>
          {events.length === 0 ? 'Look further back' : 'Load older'}
        </Button>
      )}
    </>
  );
}
