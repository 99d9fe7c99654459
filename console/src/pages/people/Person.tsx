import { Button, Menu, SegmentedControl, UnstyledButton } from '@mantine/core';
import { useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';
import { api } from '../../api/door';
import { ago, many, when } from '../../api/times';
import type { PersonInbox, Session, User } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Ask } from '../../look/Ask';
import { Glyph } from '../../look/Glyph';
import { Chip } from '../../look/Plank';
import { Asked, Failed } from '../../look/States';
import { signOf, useSessions } from './People';
import styles from './People.module.css';

const transports: Record<string, string> = {
  websocket: 'WebSocket',
  sse: 'server-sent events',
  'long-poll': 'long poll',
};

/** One person: present or away, devices, roles, and what was sent to them. */
export function Person({ id }: { id: string }) {
  const { space } = useHere();
  const sessions = useSessions().data?.get(id) ?? [];
  const user = useQuery({
    queryKey: [space, 'person', id],
    queryFn: () => api(space).get<User>(`/v1/users?id=${encodeURIComponent(id)}`),
    refetchInterval: 3000,
  });
  return <Asked query={user}>{(known) => <Known user={known} sessions={sessions} />}</Asked>;
}

function Known({ user, sessions }: { user: User; sessions: Session[] }) {
  const { space, mayOperate } = useHere();
  const there = signOf(sessions);
  const [ending, setEnding] = useState<Session | null>(null);
  const roles = user.holds.filter((h) => h.startsWith('role:')).map((h) => h.slice(5));
  const topics = user.holds.filter((h) => h.startsWith('topic:')).map((h) => h.slice(6));
  return (
    <>
      <div className={styles.head}>
        <h1 className={styles.name}>{user.displayName ?? user.id}</h1>
        <Acts user={user} sessions={sessions.length} />
      </div>
      <p className={styles.lead}>
        <Glyph sign={user.blocked ? 'denied' : there.sign} size={18} />{' '}
        <b>
          {user.blocked ? 'Blocked' : there.text[0]?.toUpperCase() + there.text.slice(1)}, {user.unread} unread.
        </b>{' '}
        <code>{user.id}</code>
        {user.since && ` known since ${when(user.since)}`}
        {user.validFrom && `; credentials from before ${when(user.validFrom)} are refused`}
      </p>
      <h2 className={styles.heading}>Roles and topics</h2>
      <p className={styles.chips}>
        {roles.map((r) => (
          <Chip key={r} of="role:">
            {r}
          </Chip>
        ))}
        {topics.map((t) => (
          <Chip key={t} of="topic:">
            {t}
          </Chip>
        ))}
        {roles.length + topics.length === 0 && 'none'}
        <Link href={`/channels?user=${encodeURIComponent(user.id)}&right=subscribe&on=topic:`}>Check a right</Link>
      </p>
      <h2 className={styles.heading}>Devices</h2>
      {sessions.length === 0 && <p className={styles.quiet}>None is connected. What is sent waits in the inbox.</p>}
      <ul>
        {sessions.map((session) => (
          <li key={session.session} className={styles.device}>
            <Glyph sign={session.outstanding > 0 ? 'behind' : signOf([session]).sign} />
            <span>
              <b>{session.label ?? session.device}</b> over {transports[session.transport]}, {session.state}
              <small>
                {session.device} · connected {ago(session.since)} · {many(session.sent, 'notification')} sent,{' '}
                {session.outstanding === 0 ? 'all acknowledged' : `${session.outstanding} not acknowledged`}, window{' '}
                {session.window}
                {session.cursor && (
                  <>
                    {' '}
                    · at <code>{session.cursor.slice(0, 8)}</code>
                  </>
                )}
              </small>
              {session.tried.length > 0 && <small>Before that, {session.tried.join('; ')}</small>}
            </span>
            <Button
              variant="subtle"
              size="compact-sm"
              disabled={!mayOperate}
              aria-label={`End the session of ${session.label ?? session.device}`}
              onClick={() => setEnding(session)}
            >
              End…
            </Button>
          </li>
        ))}
      </ul>
      {ending && (
        <Ask
          title={`End the session of ${ending.label ?? ending.device}?`}
          verb={`End the session of ${ending.device}`}
          act={() => api(space).send('DELETE', `/v1/sessions/${ending.session}`)}
          onClose={() => setEnding(null)}
        >
          The device is told. It reconnects within a second and continues where it was. To keep {user.id} out, sign out
          or block instead.
        </Ask>
      )}
      <Seen user={user} />
    </>
  );
}

/** The inbox as the person sees it, with the counts by address and what was chosen. */
function Seen({ user }: { user: User }) {
  const { space } = useHere();
  const [which, setWhich] = useState('all');
  const pages = useInfiniteQuery({
    queryKey: [space, 'inbox-of', user.id, which],
    initialPageParam: `/v1/inboxes?user=${encodeURIComponent(user.id)}&limit=20&state=${which}`,
    queryFn: ({ pageParam }) => api(space).page<PersonInbox>(pageParam),
    getNextPageParam: (last) => last.next,
    refetchInterval: 5000,
  });
  const inbox = pages.data?.pages[0]?.value;
  const items = pages.data?.pages.flatMap((p) => p.value.items) ?? [];
  return (
    <>
      <h2 className={styles.heading}>
        Inbox as {user.displayName ?? user.id} sees it
        <SegmentedControl
          size="xs"
          aria-label="Which notifications"
          data={[
            { value: 'all', label: 'All' },
            { value: 'unread', label: 'Unread' },
            { value: 'read', label: 'Read' },
          ]}
          value={which}
          onChange={setWhich}
        />
      </h2>
      {pages.error && <Failed error={pages.error} onRetry={() => void pages.refetch()} />}
      {inbox && (
        <p className={styles.chips}>
          {Object.entries(inbox.totals.by).map(([address, unread]) => (
            <Chip key={address} of={address}>
              {unread} unread
            </Chip>
          ))}
        </p>
      )}
      {inbox && items.length === 0 && <p className={styles.quiet}>Nothing here.</p>}
      <ul>
        {items.map((item) => (
          <li key={item.id} className={styles.device}>
            <Glyph
              sign={item.state.read ? 'read' : item.state.received ? 'received' : 'stored'}
              label={item.state.read ? 'read' : item.state.received ? 'received' : 'stored'}
            />
            <span>
              <Link href={`/activity/${item.id}`}>{item.title}</Link>
              <small>
                {item.type} · by {item.to} · {when(item.time)}
                {item.state.muted && ' · muted'}
                {item.state.taken && ' · taken by a colleague'}
              </small>
            </span>
          </li>
        ))}
      </ul>
      {pages.hasNextPage && (
        <Button
          size="xs"
          variant="default"
          onClick={() => void pages.fetchNextPage()}
          loading={pages.isFetchingNextPage}
        >
          Show more
        </Button>
      )}
      {inbox && <Choices inbox={inbox} />}
    </>
  );
}

function Choices({ inbox }: { inbox: PersonInbox }) {
  return (
    <>
      <h2 className={styles.heading}>Choices</h2>
      {inbox.mutes.length === 0 && !inbox.quiet && <p className={styles.quiet}>Nothing muted, no quiet hours.</p>}
      <p className={styles.chips}>
        {inbox.mutes.map((mute) => (
          <Chip key={`${mute.type} ${mute.subject}`} of={mute.type ? 'muted type' : 'muted subject'}>
            {mute.type ?? mute.subject}
          </Chip>
        ))}
        {inbox.quiet?.hours.map((hours) => (
          <Chip key={`${hours.from} ${hours.days}`} of="quiet">
            {hours.from} to {hours.to} {hours.days?.join(', ') ?? 'daily'}, {inbox.quiet?.timeZone}
          </Chip>
        ))}
      </p>
    </>
  );
}

type Act = 'sign-out' | 'block' | 'erase';

function Acts({ user, sessions }: { user: User; sessions: number }) {
  const { space, mayOperate } = useHere();
  const [act, setAct] = useState<Act | null>(null);
  if (!mayOperate) return null;
  const at = `?id=${encodeURIComponent(user.id)}`;
  const name = user.displayName ?? user.id;
  return (
    <>
      <Menu position="bottom-end" width={220}>
        <Menu.Target>
          <UnstyledButton className={styles.dots} aria-label={`More for ${name}`}>
            …
          </UnstyledButton>
        </Menu.Target>
        <Menu.Dropdown>
          <Menu.Item onClick={() => setAct('sign-out')}>Sign out, asks first</Menu.Item>
          <Menu.Item onClick={() => setAct('block')}>{user.blocked ? 'Let in again' : 'Block'}, asks first</Menu.Item>
          <Menu.Divider />
          <Menu.Item onClick={() => setAct('erase')}>Erase, asks first</Menu.Item>
        </Menu.Dropdown>
      </Menu>
      {act === 'sign-out' && (
        <Ask
          title={`Sign ${name} out?`}
          verb={`Sign out ${user.id}`}
          act={() => api(space).send('POST', `/v1/users/sign-out${at}`)}
          onClose={() => setAct(null)}
        >
          {many(sessions, 'session ends', 'sessions end')} now, and tokens from before are refused. With a fresh token{' '}
          {name} comes back.
        </Ask>
      )}
      {act === 'block' && (
        <Ask
          title={user.blocked ? `Let ${name} in again?` : `Block ${name}?`}
          verb={user.blocked ? `Let in ${user.id}` : `Block ${user.id}`}
          act={() => api(space).send('PUT', `/v1/users${at}`, { blocked: !user.blocked })}
          onClose={() => setAct(null)}
        >
          {user.blocked
            ? `Tokens of ${name} are accepted again.`
            : `${many(sessions, 'session ends', 'sessions end')} now, and no token is accepted until ${name} is let in again. What is sent waits.`}
        </Ask>
      )}
      {act === 'erase' && (
        <Ask
          title={`Erase ${name}?`}
          verb={`Erase ${user.id}`}
          typed={user.id}
          act={() => api(space).send('DELETE', `/v1/users${at}`)}
          onClose={() => setAct(null)}
        >
          Sessions, roles, marks, choices and the text of everything sent to {name} alone are removed, {user.unread}{' '}
          unread among it. A pseudonym stays in the history. This cannot be undone.
        </Ask>
      )}
    </>
  );
}
