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
import { useEffect, useState, useSyncExternalStore } from 'react';
import type { Device, Item } from './live';

const stateColor = { offline: 'gray', connecting: 'yellow', 'catching up': 'yellow', live: 'teal' };

/** One device: a bell with its count, what came, and a strip that says how it is connected. */
export function DevicePanel({ device }: { device: Device }) {
  const view = useSyncExternalStore(device.subscribe, device.snapshot);
  const [blocked, setBlocked] = useState(device.webSocketBlocked);
  const online = view.state !== 'offline';

  function block(on: boolean) {
    device.webSocketBlocked = on;
    setBlocked(on);
    device.reconnect();
  }

  return (
    <Paper withBorder p="sm" pos="relative" data-device={`${device.user}-${device.label}`}>
      <Group justify="space-between" mb={6}>
        <Group gap="sm">
          <Indicator label={view.unread ?? '?'} size={18} color="red" disabled={view.unread === 0} offset={4}>
            <ActionIcon variant="light" size="lg" aria-label={`${view.unread ?? 'unknown'} unread`}>
              <Bell />
            </ActionIcon>
          </Indicator>
          <Text fw={600}>{device.label}</Text>
          <Text size="sm" data-unread={view.unread ?? ''}>
            {view.unread === null ? '' : `${view.unread} unread`}
          </Text>
        </Group>
        <Button size="compact-xs" variant="default" disabled={!view.unread} onClick={() => void device.markRead('all')}>
          mark all read
        </Button>
      </Group>
      <ScrollArea h={150} type="auto" offsetScrollbars>
        {view.items.length === 0 ? (
          <Text size="sm" c="dimmed">
            {view.state === 'live'
              ? 'Nothing has come yet; connected and waiting.'
              : view.state === 'offline'
                ? 'Offline.'
                : 'Connecting …'}
          </Text>
        ) : (
          <Stack gap={2}>
            {view.items.map((item) => (
              <Line
                key={item.id}
                item={item}
                onRead={() => void device.markRead([item.id])}
                onTake={(take) => void device.take(item.id, take)}
              />
            ))}
          </Stack>
        )}
      </ScrollArea>
      <Toast item={view.newest} />
      <Group gap="xs" mt={8} justify="space-between">
        <Group gap="xs">
          <Badge size="sm" variant="light" color={stateColor[view.state]} data-state={view.state}>
            {view.state}
          </Badge>
          <Text size="xs" c="dimmed" title={view.tried.join('; ')} data-transport={view.transport ?? ''}>
            {view.transport ? `over ${view.transport}` : 'no transport'}
            {view.tried.some((t) => t.includes('failed')) && ' (WebSocket failed)'}
            {view.reconnects > 0 && `, connected ${view.reconnects + 1} times`}
          </Text>
          {view.cursor && (
            <Text size="xs" c="dimmed">
              at <Code fz={10}>{view.cursor.slice(0, 8)}…</Code>
            </Text>
          )}
        </Group>
        <Group gap="md">
          <Switch
            size="xs"
            label="online"
            checked={online}
            onChange={(e) => (e.currentTarget.checked ? device.connect() : device.disconnect())}
          />
          <Switch
            size="xs"
            label="block WebSocket"
            checked={blocked}
            onChange={(e) => block(e.currentTarget.checked)}
          />
        </Group>
      </Group>
    </Paper>
  );
}

function Line({ item, onRead, onTake }: { item: Item; onRead: () => void; onTake: (take: boolean) => void }) {
  return (
    <Group gap={6} wrap="nowrap" align="baseline" data-item={item.id}>
      <Text size="xs" c="dimmed" w={54} style={{ flexShrink: 0 }}>
        {new Date(item.time).toLocaleTimeString('en-GB')}
      </Text>
      <Box style={{ flexGrow: 1, minWidth: 0 }}>
        <Text size="sm" fw={item.unread ? 600 : 400} c={item.unread ? undefined : 'dimmed'} truncate title={item.title}>
          {item.title}
        </Text>
      </Box>
      <Text size="xs" c="dimmed" style={{ flexShrink: 0 }}>
        {item.to}
      </Text>
      {item.takeable !== undefined && (
        <Button
          size="compact-xs"
          variant={item.taken ? 'light' : 'default'}
          onClick={() => onTake(!item.taken)}
          style={{ flexShrink: 0 }}
        >
          {item.taken ? 'yours; give back' : 'take'}
        </Button>
      )}
      {item.unread && (
        <Button size="compact-xs" variant="subtle" onClick={onRead} style={{ flexShrink: 0 }}>
          read
        </Button>
      )}
    </Group>
  );
}

function Toast({ item }: { item: Item | null }) {
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
