import {
  ActionIcon,
  Badge,
  Box,
  Button,
  Code,
  Group,
  Indicator,
  Paper,
  ScrollArea,
  Stack,
  Switch,
  Text,
  Transition,
} from '@mantine/core';
import { useEffect, useState } from 'react';
import type { InboxItem, Notification, Transport } from 'rovett';
import {
  RovettProvider,
  useInboxPages,
  useLive,
  useLiveState,
  useNotificationHandler,
  usePresence,
  useUnreadTotal,
} from 'rovett/react';
import { connectShared } from 'rovett/shared';

const stateColor = {
  offline: 'gray',
  closed: 'gray',
  refused: 'red',
  connecting: 'yellow',
  'catching up': 'yellow',
  live: 'teal',
};
const transportName: Record<Transport, string> = {
  websocket: 'WebSocket',
  sse: 'server-sent events',
  'long-poll': 'long poll',
};

/** One device of a person, with switches for what may happen to it. */
export function Device({ service, user, role, label }: { service: string; user: string; role: string; label: string }) {
  const [online, setOnline] = useState(true);
  const [blocked, setBlocked] = useState(false);
  const name = `${user}-${label}`;
  // It is the service's: it outlives this page, and another tab may have set it.
  useEffect(() => {
    fetch(`/api/fault?device=crew-${name}`)
      .then((answer) => answer.json())
      .then((fault) => setBlocked(fault.blocked));
  }, [name]);
  const block = async (wanted: boolean) => {
    setBlocked(wanted);
    await fetch(`/api/fault?device=crew-${name}&blocked=${wanted}`, { method: 'POST' });
  };
  const switches = (
    <Group gap="md">
      <Switch size="xs" label="online" checked={online} onChange={(e) => setOnline(e.currentTarget.checked)} />
      <Switch size="xs" label="block WebSocket" checked={blocked} onChange={(e) => block(e.currentTarget.checked)} />
    </Group>
  );
  return (
    <Paper withBorder p="sm" pos="relative" data-device={name}>
      {online ? (
        <RovettProvider
          url={service}
          token={() => token(user)}
          device={`crew-${name}`}
          label={label}
          connect={connectShared}
          upgradeMs={5000}
        >
          <Connected label={label} role={role} switches={switches} />
        </RovettProvider>
      ) : (
        <Offline label={label} switches={switches} />
      )}
    </Paper>
  );
}

async function token(user: string): Promise<string> {
  const made = await fetch(`/api/token?user=${user}`, { method: 'POST' });
  return (await made.json()).token;
}

function Offline({ label, switches }: { label: string; switches: React.ReactNode }) {
  return (
    <>
      <Text fw={600} mb={6}>
        {label}
      </Text>
      <Box h={150}>
        <Text size="sm" c="dimmed">
          Switched off. What comes meanwhile is here again when it is switched on.
        </Text>
      </Box>
      <Group gap="xs" mt={8} justify="space-between">
        <Badge size="sm" variant="light" color="gray" data-state="offline">
          offline
        </Badge>
        {switches}
      </Group>
    </>
  );
}

/** A bell with its count, what came, and a strip that says how it is connected. */
function Connected({ label, role, switches }: { label: string; role: string; switches: React.ReactNode }) {
  const live = useLive();
  const unread = useUnreadTotal();
  const state = useLiveState();
  const { items, list } = useInboxPages({ limit: 50 });
  const [newest, setNewest] = useState<Notification | null>(null);
  useNotificationHandler('*', setNewest);
  const { transport } = state;

  return (
    <>
      <Group justify="space-between" mb={6}>
        <Group gap="sm">
          <Indicator label={unread ?? '?'} size={18} color="red" disabled={unread === 0} offset={4}>
            <ActionIcon variant="light" size="lg" aria-label={`${unread ?? 'unknown'} unread`}>
              <Bell />
            </ActionIcon>
          </Indicator>
          <Text fw={600}>{label}</Text>
          <Text size="sm" data-unread={unread ?? ''}>
            {unread === null ? '' : `${unread} unread`}
          </Text>
        </Group>
        <Button size="compact-xs" variant="default" disabled={!unread} onClick={() => void list?.markAllRead()}>
          mark all read
        </Button>
      </Group>
      <Colleagues role={role} />
      <ScrollArea h={150} type="auto" offsetScrollbars>
        {items.length === 0 ? (
          <Text size="sm" c="dimmed">
            {state.phase === 'live' ? 'No notifications yet. Connected.' : 'Connecting …'}
          </Text>
        ) : (
          <Stack gap={2}>
            {items.map((item) => (
              <Line
                key={item.id}
                item={item}
                onRead={() => void list?.markRead([item.id])}
                onTake={(take) => void (take ? live?.inbox.take(item.id) : live?.inbox.release(item.id))}
              />
            ))}
          </Stack>
        )}
      </ScrollArea>
      <Toast item={newest} />
      <Group gap="xs" mt={8} justify="space-between">
        <Group gap="xs">
          <Badge size="sm" variant="light" color={stateColor[state.phase]} data-state={state.phase}>
            {state.phase}
          </Badge>
          <Text
            size="xs"
            c="dimmed"
            title={state.tried.map((t) => `${transportName[t.transport]}: ${t.why ?? t.outcome}`).join('; ')}
            data-transport={transport ? transportName[transport] : ''}
            data-through={state.through ?? ''}
          >
            {transport ? `over ${transportName[transport]}` : (state.why ?? 'no transport')}
            {state.through && `, through ${state.through}`}
            {state.tried
              .filter((t) => t.outcome === 'failed')
              .map((t) => `; ${transportName[t.transport]}: ${t.why}`)
              .join('')}
            {state.reconnects > 0 && `, connected ${state.reconnects + 1} times`}
          </Text>
          {live?.cursor && transport && (
            <Text size="xs" c="dimmed">
              at <Code fz={10}>{live.cursor.slice(0, 8)}…</Code>
            </Text>
          )}
        </Group>
        {switches}
      </Group>
    </>
  );
}

/** Who of the person's role is connected. */
function Colleagues({ role }: { role: string }) {
  const { people, error } = usePresence(`role:${role}`);
  return (
    <Text size="xs" c="dimmed" mb={4} truncate data-here={people?.length ?? ''}>
      {role} here now: {people ? people.map((p) => p.displayName ?? p.user).join(', ') : (error?.message ?? '…')}
    </Text>
  );
}

function Line({ item, onRead, onTake }: { item: InboxItem; onRead: () => void; onTake: (take: boolean) => void }) {
  const unread = item.state.read === null;
  return (
    <Group gap={6} wrap="nowrap" align="baseline" data-item={item.id}>
      <Text size="xs" c="dimmed" w={54} style={{ flexShrink: 0 }}>
        {new Date(item.time).toLocaleTimeString('en-GB')}
      </Text>
      <Box style={{ flexGrow: 1, minWidth: 0 }}>
        <Text size="sm" fw={unread ? 600 : 400} c={unread ? undefined : 'dimmed'} truncate title={item.title}>
          {item.title}
        </Text>
      </Box>
      <Text size="xs" c="dimmed" style={{ flexShrink: 0 }}>
        {item.to}
      </Text>
      {item.takeable !== undefined && (
        <Button
          size="compact-xs"
          variant={item.state.taken ? 'light' : 'default'}
          onClick={() => onTake(!item.state.taken)}
          style={{ flexShrink: 0 }}
        >
          {item.state.taken ? 'Yours · release' : 'Take'}
        </Button>
      )}
      {unread && (
        <Button size="compact-xs" variant="subtle" onClick={onRead} style={{ flexShrink: 0 }}>
          read
        </Button>
      )}
    </Group>
  );
}

function Toast({ item }: { item: Notification | null }) {
  const [shown, setShown] = useState(false);
  useEffect(() => {
    setShown(item !== null);
    const timer = setTimeout(() => setShown(false), 2500);
    return () => clearTimeout(timer);
  }, [item]);
  return (
    <Transition mounted={shown && item !== null} transition="slide-down">
      {(style) => (
        <Paper
          shadow="md"
          p="xs"
          bg="teal.7"
          c="white"
          pos="absolute"
          top={8}
          right={8}
          maw={320}
          style={{ ...style, zIndex: 2 }}
        >
          <Text size="sm" truncate>
            {item?.title}
          </Text>
        </Paper>
      )}
    </Transition>
  );
}

function Bell() {
  return (
    <svg
      width="20"
      height="20"
      viewBox="0 0 24 24"
      fill="none"
      stroke="currentColor"
      strokeWidth="2"
      role="img"
      aria-label="notifications"
    >
      <path d="M6 16V11a6 6 0 0 1 12 0v5l2 2H4zM10 20a2 2 0 0 0 4 0" strokeLinejoin="round" />
    </svg>
  );
}
