import { Badge, Button, Group, Paper, ScrollArea, Stack, Table, Text, Title, Tooltip } from '@mantine/core';
import { useEffect, useState } from 'react';
import { clock, type Row, type SessionRow, type Transport, type View, whom } from './view';

export type Link = { state: 'connecting' } | { state: 'live'; since: string } | { state: 'lost'; since: string };

/** The middle made visible: what arrives, who has it, who is connected and how. */
export function Flow({ space, link, onLink, onSignedOut, signOutUser }: FlowProps) {
  const [view, setView] = useState<View | null>(null);

  useEffect(() => {
    const stream = new EventSource(`/console/api/live?space=${encodeURIComponent(space)}`);
    stream.addEventListener('view', (event) => {
      setView(JSON.parse((event as MessageEvent<string>).data));
      onLink((old) => (old.state === 'live' ? old : { state: 'live', since: new Date().toISOString() }));
    });
    stream.onerror = () => {
      onLink((old) => (old.state === 'lost' ? old : { state: 'lost', since: new Date().toISOString() }));
      // A refused stream is closed for good: the session may have ended.
      if (stream.readyState === EventSource.CLOSED) onSignedOut();
    };
    return () => stream.close();
  }, [space, onLink, onSignedOut]);

  return (
    view && (
      <Stack>
        <Sums view={view} />
        <Sessions view={view} signOutUser={signOutUser} />
        <Notifications view={view} since={link.state === 'live' ? link.since : view.since} />
      </Stack>
    )
  );
}

export interface FlowProps {
  space: string;
  link: Link;
  onLink: (change: (old: Link) => Link) => void;
  onSignedOut: () => void;
  /** Undefined for operators who may only view. */
  signOutUser?: (user: string) => void;
}

function Sums({ view }: { view: View }) {
  const over = (transport: Transport) => view.sessions.filter((s) => s.transport === transport).length;
  const polls = over('long-poll');
  return (
    <Group grow align="stretch">
      <Sum label="users connected" value={view.users} note="each counted once, over all their devices" />
      <Sum
        label="live sessions"
        value={view.sessionCount}
        note={`${over('websocket')} over WebSocket, ${over('sse')} over server-sent events${polls > 0 ? `, ${polls} by long poll` : ''}`}
      />
      <Sum
        label="notifications since start"
        value={view.storedSinceStart}
        note={`running since ${clock(view.since)}`}
      />
    </Group>
  );
}

function Sum({ label, value, note }: { label: string; value: number; note: string }) {
  return (
    <Paper withBorder px="md" py="xs">
      <Group gap="sm" align="baseline">
        <Text fz={26} fw={700}>
          {value}
        </Text>
        <Text size="sm">{label}</Text>
      </Group>
      <Text size="xs" c="dimmed">
        {note}
      </Text>
    </Paper>
  );
}

function Notifications({ view, since }: { view: View; since: string }) {
  return (
    <Paper withBorder p="md">
      <Title order={5} mb="xs">
        Notifications
      </Title>
      {view.notifications.length === 0 ? (
        <Text c="dimmed">
          Connected since {clock(since)}, nothing yet. Send one: rovett send --to user:mara --type hello --title Hello
        </Text>
      ) : (
        <Table.ScrollContainer minWidth={560} type="native">
          <Table highlightOnHover verticalSpacing={4}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>stored</Table.Th>
                <Table.Th>what</Table.Th>
                <Table.Th>for</Table.Th>
                <Table.Th ta="right">dispatched</Table.Th>
                <Table.Th ta="right">received</Table.Th>
                <Table.Th ta="right">read</Table.Th>
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {view.notifications.slice(0, 25).map((row) => (
                <NotificationRow key={row.id} row={row} />
              ))}
            </Table.Tbody>
          </Table>
        </Table.ScrollContainer>
      )}
    </Paper>
  );
}

/** Nobody is shown it now, or only as one that is over. */
const hasEnded = (row: Row) => row.state !== undefined && row.state !== 'taken';

function NotificationRow({ row }: { row: Row }) {
  return (
    <Table.Tr data-id={row.id}>
      <Table.Td>
        <Tooltip label={`${row.time}, position ${row.position}`}>
          <Text size="sm">{clock(row.time)}</Text>
        </Tooltip>
      </Table.Td>
      <Table.Td>
        <Group gap="xs">
          <Text size="sm" fw={500} c={hasEnded(row) ? 'dimmed' : undefined}>
            {row.title}
          </Text>
          {row.state && (
            <Badge size="sm" variant="light" color={hasEnded(row) ? 'gray' : 'blue'}>
              {row.state}
            </Badge>
          )}
        </Group>
        <Text size="xs" c="dimmed">
          {row.type}
        </Text>
      </Table.Td>
      <Table.Td>
        <Text size="sm">{whom(row.addressing)}</Text>
      </Table.Td>
      <Table.Td ta="right">{row.dispatched}</Table.Td>
      <Table.Td ta="right">{row.received}</Table.Td>
      <Table.Td ta="right">{row.read}</Table.Td>
    </Table.Tr>
  );
}

const transportName = { websocket: 'WebSocket', sse: 'server-sent events', 'long-poll': 'long poll' };

function Sessions({ view, signOutUser }: { view: View; signOutUser?: (user: string) => void }) {
  return (
    <Paper withBorder p="md">
      <Title order={5} mb="xs">
        Connected now
      </Title>
      {view.sessions.length === 0 ? (
        <Text c="dimmed">Nobody is connected. Connect as a user: rovett receive --user mara --role engineer</Text>
      ) : (
        <ScrollArea.Autosize mah={230}>
          <Table verticalSpacing={4}>
            <Table.Thead>
              <Table.Tr>
                <Table.Th>user</Table.Th>
                <Table.Th>device</Table.Th>
                <Table.Th>transport</Table.Th>
                <Table.Th>state</Table.Th>
                <Table.Th>since</Table.Th>
                <Table.Th>channels</Table.Th>
                <Table.Th ta="right">sent</Table.Th>
                <Table.Th ta="right">not acknowledged</Table.Th>
                {signOutUser && <Table.Th />}
              </Table.Tr>
            </Table.Thead>
            <Table.Tbody>
              {view.sessions.map((s) => (
                <SessionLine key={s.session} session={s} signOutUser={signOutUser} />
              ))}
            </Table.Tbody>
          </Table>
        </ScrollArea.Autosize>
      )}
    </Paper>
  );
}

function SessionLine({ session, signOutUser }: { session: SessionRow; signOutUser?: (user: string) => void }) {
  return (
    <Table.Tr>
      <Table.Td fw={500}>{session.user}</Table.Td>
      <Table.Td>{session.label ?? session.device}</Table.Td>
      <Table.Td>{transportName[session.transport]}</Table.Td>
      <Table.Td>
        <Badge
          size="sm"
          variant="light"
          color={session.state === 'live' ? 'teal' : session.state === 'silent' ? 'red' : 'yellow'}
        >
          {session.state}
        </Badge>
      </Table.Td>
      <Table.Td>{clock(session.since)}</Table.Td>
      <Table.Td>
        <Text size="xs">{session.channels.join(', ')}</Text>
      </Table.Td>
      <Table.Td ta="right">{session.sent}</Table.Td>
      <Table.Td ta="right">{session.outstanding}</Table.Td>
      {signOutUser && (
        <Table.Td ta="right">
          <Tooltip label="Ends every session of this user, and every credential made before now">
            <Button size="compact-xs" variant="subtle" color="red" onClick={() => signOutUser(session.user)}>
              sign out
            </Button>
          </Tooltip>
        </Table.Td>
      )}
    </Table.Tr>
  );
}
