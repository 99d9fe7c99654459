import { Button, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';
import { api } from '../../api/door';
import { many } from '../../api/times';
import type { Session, UserSummary } from '../../api/types';
import { useFacts, useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { ListTitle, rowStyle, Split } from '../../look/Split';
import { Empty, Failed, Loading } from '../../look/States';
import styles from './People.module.css';
import { Person } from './Person';

/** Whether somebody is there, by the best of their sessions. */
export function signOf(sessions: Session[]): { sign: Sign; text: string } {
  if (sessions.some((s) => s.state === 'live'))
    return { sign: 'live', text: `live on ${many(sessions.length, 'device')}` };
  if (sessions.some((s) => s.state === 'catching up' || s.state === 'opening'))
    return { sign: 'behind', text: 'catching up' };
  if (sessions.length > 0) return { sign: 'silent', text: 'silent' };
  return { sign: 'stored', text: 'away' };
}

/** Everybody's sessions, by user, refreshed every two seconds. */
export function useSessions() {
  const { space } = useHere();
  return useQuery({
    queryKey: [space, 'sessions'],
    queryFn: () => api(space).get<{ sessions: Session[] }>('/v1/sessions'),
    refetchInterval: 2000,
    select: (answer) => Map.groupBy(answer.sessions, (s) => s.user),
  });
}

/** Everybody known, with the chosen person's details. */
export function People({ id }: { id?: string }) {
  return (
    <Split
      isOpen={id !== undefined}
      names={{ list: 'People', detail: 'Person' }}
      back={{ href: '/people', name: 'People' }}
      list={<List chosen={id} />}
      detail={
        id ? (
          <Person key={id} id={id} />
        ) : (
          <>
            <h2>Nobody is chosen</h2>
            <p>Choose somebody to see their devices, their roles and what was sent to them.</p>
          </>
        )
      }
    />
  );
}

function List({ chosen }: { chosen?: string }) {
  const { space } = useHere();
  const facts = useFacts();
  const sessions = useSessions();
  const [search, setSearch] = useState('');
  const [settled] = useDebouncedValue(search.trim(), 250);
  const list = useInfiniteQuery({
    queryKey: [space, 'people', settled],
    initialPageParam: `/v1/users?limit=100${settled ? `&search=${encodeURIComponent(settled)}` : ''}`,
    queryFn: ({ pageParam }) => api(space).page<{ users: UserSummary[] }>(pageParam),
    getNextPageParam: (page) => page.next,
  });
  const listed = list.data?.pages.flatMap((p) => p.value.users) ?? [];
  const present = (id: string) => sessions.data?.get(id) ?? [];
  // Those who are here come first; the order of names holds otherwise.
  const people = [
    ...listed.filter((p) => present(p.id).length > 0),
    ...listed.filter((p) => present(p.id).length === 0),
  ];
  return (
    <>
      <div className={styles.head}>
        <ListTitle isOpen={chosen !== undefined}>People</ListTitle>
        <span>{facts.data && `${facts.data.live} of ${facts.data.people.toLocaleString('en-GB')} live`}</span>
      </div>
      <TextInput
        aria-label="Find a person"
        placeholder="find by name or id"
        value={search}
        onChange={(e) => setSearch(e.currentTarget.value)}
        mb="sm"
      />
      {list.error && <Failed error={list.error} onRetry={() => void list.refetch()} />}
      {list.isPending && <Loading rows={9} />}
      <ul className={styles.rows}>
        {people.map((person) => {
          const there = person.blocked ? ({ sign: 'denied', text: 'blocked' } as const) : signOf(present(person.id));
          return (
            <li key={person.id}>
              <Link
                href={`/people/${encodeURIComponent(person.id)}`}
                className={`${rowStyle} ${styles.row}`}
                aria-current={person.id === chosen || undefined}
              >
                <Glyph sign={there.sign} />
                <b>{person.displayName ?? person.id}</b>
                <span className={styles.there}>{there.text}</span>
                <span className={styles.sub}>
                  {person.displayName ? `${person.id} · ` : ''}
                  {person.roles.join(', ') || 'roles by token'}
                </span>
              </Link>
            </li>
          );
        })}
      </ul>
      {list.isSuccess && people.length === 0 && (
        <Empty title={settled ? `Nobody with “${settled}”` : 'Nobody is known yet'}>
          {settled
            ? 'Ids and names are looked through.'
            : 'People are known once they show a token, or are put into the directory.'}
        </Empty>
      )}
      {list.hasNextPage && (
        <Button variant="default" mt="md" loading={list.isFetchingNextPage} onClick={() => void list.fetchNextPage()}>
          More people
        </Button>
      )}
    </>
  );
}
