import { Button } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useCallback, useEffect, useMemo, useReducer, useRef, useState } from 'react';
import type { LiveState, Notification, Transport } from 'rovett';
import { useSearchParams } from 'wouter';
import { api } from '../../api/door';
import type { Explanation, Sent, UserSummary } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph } from '../../look/Glyph';
import { Plank } from '../../look/Plank';
import { Failed } from '../../look/States';
import { BackOffice, type Draft } from './BackOffice';
import { empty, journal } from './journal';
import { Middle } from './Middle';
import { check, type Outcome } from './privacy';
import { Receiver } from './Receiver';
import styles from './Side.module.css';
import { Messages } from './WireTable';
import type { Passed } from './wire';

/** Sender, middle and two receivers at once: see it arrive, see it not arrive, see what a bad network does. */
export function Side() {
  const { space, mayOperate } = useHere();
  const [params, setParams] = useSearchParams();
  const known = useQuery({
    queryKey: [space, 'side-people'],
    queryFn: () => api(space).get<{ users: UserSummary[] }>('/v1/users?limit=200'),
  });
  const people = useMemo(
    () =>
      (known.data?.users ?? [])
        .filter((u) => !u.blocked)
        .map(({ id, displayName }) => ({ value: id, label: displayName ?? id })),
    [known.data],
  );
  const nameOf = useCallback((user: string) => people.find((p) => p.value === user)?.label ?? user, [people]);
  const users: [string, string] = [
    params.get('first') ?? people[0]?.value ?? '',
    params.get('second') ?? people[1]?.value ?? '',
  ];
  const [state, tell] = useReducer(journal, empty);
  const [states, setStates] = useState<Record<string, LiveState>>({});
  const latest = useRef({ users, state });
  latest.current = { users, state };

  const choose = (which: 'first' | 'second', user: string) =>
    setParams({ first: users[0], second: users[1], [which]: user }, { replace: true });
  const onGot = useCallback(
    (user: string, notification: Notification, transport: Transport) =>
      tell({ kind: 'got', user, notification, at: Date.now(), transport }),
    [],
  );
  const onPassed = useCallback((user: string, passed: Passed) => tell({ kind: 'passed', user, passed }), []);
  const onState = useCallback(
    (user: string, next: LiveState) => setStates((before) => ({ ...before, [user]: next })),
    [],
  );
  const onSent = (draft: Draft, sent: Sent) => {
    const { id } = sent;
    if (!id) return;
    const leg = { id, title: draft.title, to: draft.to.join(', '), at: Date.now(), isOwn: true, isFor: {}, got: {} };
    tell({ kind: 'sent', leg });
  };

  // Who is on whose channel is asked once for each notification and person.
  const asked = useRef(new Set<string>());
  useEffect(() => {
    for (const leg of state.legs) {
      for (const user of users) {
        const key = `${leg.id} ${user}`;
        if (!user || leg.got[user] || leg.isFor[user] !== undefined || asked.current.has(key)) continue;
        asked.current.add(key);
        void isReached(space, user, leg.to.split(', ')).then(
          (is) => tell({ kind: 'for', id: leg.id, user, is }),
          () => asked.current.delete(key),
        );
      }
    }
  });

  const [outcome, setOutcome] = useState<Outcome | null>(null);
  const checking = useMutation({
    mutationFn: () =>
      check(space, users, () => latest.current.state, {
        sent: onSent,
        isLive: (user) => states[user]?.phase === 'live',
        nameOf,
      }),
    onSuccess: setOutcome,
  });
  const pair = users.join(' ');
  useEffect(() => setOutcome(null), [pair]);
  const live = Object.fromEntries(Object.entries(states).map(([user, s]) => [user, s.phase === 'live']));
  const bothLive = users.every((u) => u && live[u]);

  return (
    <>
      <Plank tone="open">
        <div className={styles.verdict}>
          {outcome && <Glyph sign={outcome.holds ? 'allowed' : 'denied'} size={40} />}
          <div>
            <h1>{outcome ? outcome.sentence : 'Side by side'}</h1>
            <p>
              {outcome
                ? outcome.why
                : 'One sends, two receive. This page connects as the two people: what arrives here counts as received by them.'}
            </p>
          </div>
          <Button
            variant="default"
            onClick={() => checking.mutate()}
            loading={checking.isPending}
            disabled={!bothLive || !mayOperate}
          >
            {outcome ? 'Show it again' : `Show that ${nameOf(users[1]) || 'the second'} does not get it`}
          </Button>
        </div>
        {checking.error && <Failed error={checking.error} />}
        {!mayOperate && (
          <p className={styles.quiet}>Connecting as somebody needs the right to operate; you may view.</p>
        )}
      </Plank>
      {mayOperate && (
        <>
          <div className={styles.stage}>
            <BackOffice first={users[0]} onSent={onSent} />
            <Middle legs={state.legs} users={users} live={live} nameOf={nameOf} />
            {(['first', 'second'] as const).map((which, i) => (
              <Receiver
                key={which}
                which={which}
                user={users[i] as string}
                other={users[1 - i] as string}
                people={people}
                onChoose={(user) => choose(which, user)}
                onGot={onGot}
                onPassed={onPassed}
                onState={onState}
              />
            ))}
          </div>
          <Messages users={users} wires={state.wires} />
        </>
      )}
    </>
  );
}

/** Whether somebody is on one of the channels. */
async function isReached(space: string, user: string, to: string[]): Promise<boolean> {
  const asked = await Promise.all(
    to.map((on) => api(space).get<Explanation>(`/v1/explain?${new URLSearchParams({ user, on })}`)),
  );
  return asked.some((a) => a.onChannel);
}
