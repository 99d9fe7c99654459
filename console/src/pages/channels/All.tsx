import { Button, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useInfiniteQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useSearchParams } from 'wouter';
import { api } from '../../api/door';
import { ago, many, when } from '../../api/times';
import type { Channel, ChannelShown } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph } from '../../look/Glyph';
import { Head, Plank } from '../../look/Plank';
import { Empty, Failed, Loading } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Channels.module.css';

/** Roles and topics, and who is on each of them. */
export function All() {
  const { space } = useHere();
  const [text, setText] = useState('');
  const [search] = useDebouncedValue(text, 250);
  const pages = useInfiniteQuery({
    queryKey: [space, 'channels', search],
    initialPageParam: `/v1/channels?limit=50${search && `&search=${encodeURIComponent(search)}`}`,
    queryFn: ({ pageParam }) => api(space).page<{ channels: Channel[] }>(pageParam),
    getNextPageParam: (last) => last.next,
    refetchInterval: 5000,
  });
  const channels = pages.data?.pages.flatMap((p) => p.value.channels) ?? [];
  return (
    <Plank>
      <Head
        title="Roles and topics"
        beside="that somebody is on"
        end={
          <TextInput
            size="xs"
            aria-label="Find a channel"
            placeholder="berth"
            value={text}
            onChange={(e) => setText(e.currentTarget.value)}
          />
        }
      />
      {pages.error && <Failed error={pages.error} onRetry={() => void pages.refetch()} />}
      {pages.isPending && <Loading rows={4} />}
      {pages.data && channels.length === 0 && (
        <Empty title={search ? `Nothing with “${search}”` : 'Nobody holds a role or follows a topic'}>
          {search && (
            <Button variant="default" size="xs" onClick={() => setText('')}>
              Show all
            </Button>
          )}
        </Empty>
      )}
      {channels.length > 0 && (
        <div className={styles.scroll}>
          <table className={table.table}>
            <thead>
              <tr>
                <th>Channel</th>
                <th className={table.number}>Members</th>
                <th className={table.number}>Here</th>
                <th className={table.number}>Sent to it alone</th>
                <th className={table.number}>Last</th>
              </tr>
            </thead>
            <tbody>
              {channels.map((c) => (
                <tr key={c.address}>
                  <th scope="row">
                    <Link href={`/channels?channel=${encodeURIComponent(c.address)}`}>{c.address}</Link>
                  </th>
                  <td className={table.number}>{c.members.toLocaleString('en-GB')}</td>
                  <td className={table.number}>{c.here.toLocaleString('en-GB')}</td>
                  <td className={table.number}>{c.sent.toLocaleString('en-GB')}</td>
                  <td className={table.number}>{c.lastSent ? ago(c.lastSent) : 'never'}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {pages.hasNextPage && (
        <Button mt="md" variant="default" onClick={() => void pages.fetchNextPage()} loading={pages.isFetchingNextPage}>
          Show more
        </Button>
      )}
    </Plank>
  );
}

/** One of them, with its members. */
export function One({ address }: { address: string }) {
  const { space } = useHere();
  const [, setParams] = useSearchParams();
  const pages = useInfiniteQuery({
    queryKey: [space, 'channel', address],
    initialPageParam: `/v1/channels?limit=100&address=${encodeURIComponent(address)}`,
    queryFn: ({ pageParam }) => api(space).page<ChannelShown>(pageParam),
    getNextPageParam: (last) => last.next,
    refetchInterval: 5000,
  });
  const shown = pages.data?.pages[0]?.value;
  const people = pages.data?.pages.flatMap((p) => p.value.people) ?? [];
  return (
    <Plank>
      <Head
        title={address}
        beside={
          shown &&
          `${many(shown.members, 'member')}, ${shown.here} here now, ${many(shown.sent, 'notification')} sent to it alone${shown.lastSent ? `, the last ${ago(shown.lastSent)}` : ''}`
        }
        end={
          <Button variant="subtle" size="xs" onClick={() => setParams({})}>
            All roles and topics
          </Button>
        }
      />
      <p className={styles.links}>
        <Link href={`/activity?address=${encodeURIComponent(address)}`}>What was sent to it</Link>
        <Link href={`/side`}>Send to it</Link>
      </p>
      {pages.error && <Failed error={pages.error} onRetry={() => void pages.refetch()} />}
      {pages.isPending && <Loading rows={4} />}
      {shown && people.length === 0 && <Empty title="Nobody is on it" />}
      <ul className={styles.people}>
        {people.map((p) => (
          <li key={p.user}>
            <Glyph sign={p.here ? 'live' : 'stored'} label={p.here ? 'here' : 'away'} />
            <Link href={`/people/${encodeURIComponent(p.user)}`}>{p.displayName ?? p.user}</Link>
            <small className={styles.since}>
              {p.member
                ? p.since
                  ? `since ${when(p.since)}`
                  : 'for longer than the history is kept'
                : 'subscribed, no member'}
            </small>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <Button mt="md" variant="default" onClick={() => void pages.fetchNextPage()} loading={pages.isFetchingNextPage}>
          Show more
        </Button>
      )}
    </Plank>
  );
}
