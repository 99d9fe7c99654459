import { Select, Switch } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import type { Live, LiveState, Notification, Transport } from 'rovett';
import {
  RovettProvider,
  useInboxPages,
  useLive,
  useLiveState,
  useNotificationHandler,
  useUnreadTotal,
} from 'rovett/react';
import { api, own } from '../../api/door';
import { ago } from '../../api/times';
import type { UserSummary } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { Failed } from '../../look/States';
import styles from './Side.module.css';
import { type Faults, noFaults, type Passed, Wire } from './wire';

export const transportNames: Record<Transport, string> = {
  websocket: 'WebSocket',
  sse: 'server-sent events',
  'long-poll': 'long poll',
};

export interface ReceiverProps {
  /** Which of the two. */
  which: 'first' | 'second';
  user: string;
  people: { value: string; label: string }[];
  /** The other one, who can't be chosen here as well. */
  other: string;
  onChoose: (user: string) => void;
  onGot: (user: string, notification: Notification, transport: Transport) => void;
  onPassed: (user: string, passed: Passed) => void;
  onState: (user: string, state: LiveState) => void;
}

const labels: [keyof Faults, string][] = [
  ['cut', 'Cut the connection'],
  ['slow', 'Slow by 2 s'],
  ['blockWebSocket', 'Block WebSocket'],
  ['holdStreams', 'Hold back streams'],
];

/** One person's device, connected by this page, with switches for what may happen to its connection. */
export function Receiver(props: ReceiverProps) {
  const { user, which, people, other, onChoose } = props;
  const { space } = useHere();
  const queries = useQueryClient();
  const [search, setSearch] = useState('');
  const add = useMutation({
    mutationFn: (id: string) => api(space).send('PUT', `/v1/users?id=${encodeURIComponent(id)}`, {}),
    onSuccess: async (_, id) => {
      await queries.invalidateQueries({ queryKey: [space] });
      onChoose(id);
    },
  });
  const [asked] = useDebouncedValue(search, 250);
  // Of a hundred thousand people, the page knows the first ones: the service finds the others.
  const found = useQuery({
    queryKey: [space, 'side-find', asked],
    queryFn: () => api(space).get<{ users: UserSummary[] }>(`/v1/users?limit=50&search=${encodeURIComponent(asked)}`),
    enabled: asked !== '' && !people.some((p) => p.label === asked), // the chosen one's name
  });
  const more = (found.data?.users ?? []).map(({ id, displayName }) => ({ value: id, label: displayName ?? id }));
  const all = [...people, ...more.filter((m) => !people.some((p) => p.value === m.value))];
  const options = all.filter((p) => p.value !== other);
  const isNew =
    search !== '' && asked === search && found.isSuccess && !all.some((p) => [p.value, p.label].includes(search));
  return (
    <section className={styles.receiver} aria-label={`Receiver ${user || which}`} data-receiver={which}>
      <Select
        aria-label={which === 'first' ? 'First receiver' : 'Second receiver'}
        placeholder="Choose or add a person"
        data={isNew ? [...options, { value: `${adding}${search}`, label: `Add ${search}` }] : options}
        value={user || null}
        onChange={(value) => {
          if (value?.startsWith(adding)) add.mutate(value.slice(adding.length));
          else if (value) onChoose(value);
        }}
        searchable
        onSearchChange={setSearch}
        allowDeselect={false}
      />
      {add.error && <Failed error={add.error} />}
      {user ? <Device key={user} {...props} /> : <p className={styles.quiet}>Choose who is to receive.</p>}
    </section>
  );
}

/** What the value of the option that adds somebody begins with; no id has a line break. */
const adding = '\n';

function Device(props: ReceiverProps) {
  const { space } = useHere();
  const { user, which } = props;
  const latest = useRef(props);
  latest.current = props;
  const [faults, setFaults] = useState(noFaults);
  const [wire] = useState(() => new Wire((passed) => latest.current.onPassed(user, passed)));
  const change = (name: keyof Faults, on: boolean) => {
    const next = { ...faults, [name]: on };
    setFaults(next);
    wire.set(next);
  };
  const [socket] = useState(() => wire.WebSocket);
  const stand = async () =>
    (await own.post<{ token: string }>(`stand-ins?space=${encodeURIComponent(space)}`, { user })).token;
  return (
    <RovettProvider
      url={location.origin + (space === 'main' ? '' : `/s/${space}`)}
      token={stand}
      device={`console-${which}`}
      label="Side by side"
      transports={['websocket', 'sse', 'long-poll']}
      upgradeMs={4000}
      retryMs={{ min: 500, max: 4000 }}
      fetch={wire.fetch}
      WebSocket={socket}
      report={() => undefined}
    >
      <Shown {...props} faults={faults} onFault={change} />
    </RovettProvider>
  );
}

const signs: Record<LiveState['phase'], Sign> = {
  live: 'live',
  'catching up': 'behind',
  connecting: 'dispatched',
  offline: 'silent',
  refused: 'denied',
  closed: 'silent',
};

function words(state: LiveState): string {
  if (state.phase === 'live') return `Live over ${state.transport ? transportNames[state.transport] : 'nothing'}`;
  if (state.phase === 'offline') return `Offline${state.why ? `: ${state.why}` : ''}. Trying again`;
  if (state.phase === 'refused') return state.problem?.detail ?? state.why ?? 'Refused';
  return state.phase === 'connecting' ? 'Connecting' : 'Catching up';
}

function Shown({
  user,
  onGot,
  onState,
  faults,
  onFault,
}: ReceiverProps & { faults: Faults; onFault: (name: keyof Faults, on: boolean) => void }) {
  const live = useLive();
  const state = useLiveState();
  const unread = useUnreadTotal();
  const { items } = useInboxPages({ limit: 20 });
  const over = useRef<Live | null>(live);
  over.current = live;
  useNotificationHandler('*', (notification) => {
    onGot(user, notification, over.current?.state.value.transport ?? 'websocket');
  });
  useEffect(() => onState(user, state), [onState, user, state]);
  const failed = state.tried.filter((t) => t.outcome === 'failed');
  return (
    <>
      <p className={styles.state} data-phase={state.phase} data-transport={state.transport ?? ''}>
        <Glyph sign={signs[state.phase]} /> {words(state)}
      </p>
      {failed.map((t) => (
        <p key={t.transport} className={styles.tried}>
          {transportNames[t.transport]}: {t.why}
        </p>
      ))}
      <p className={styles.unread}>
        <b data-unread={unread ?? ''}>{unread === null ? '–' : unread.toLocaleString('en-GB')}</b> unread
      </p>
      <fieldset className={styles.switches}>
        <legend className="unseen">What happens to the connection</legend>
        {labels.map(([name, label]) => (
          <Switch
            key={name}
            size="xs"
            label={label}
            checked={faults[name]}
            onChange={(e) => {
              onFault(name, e.currentTarget.checked);
              if (!e.currentTarget.checked) live?.reconnect();
            }}
          />
        ))}
      </fieldset>
      {items.length === 0 && <p className={styles.quiet}>Nothing in the inbox.</p>}
      <ul className={styles.inbox}>
        {items.map((item) => (
          <li key={item.id} className={item.state.read ? styles.read : undefined}>
            <span className={styles.title}>{item.title}</span>
            <time title={item.time}>{ago(item.time).replace(' ago', '')}</time>
          </li>
        ))}
      </ul>
    </>
  );
}
