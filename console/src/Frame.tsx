import { Anchor, Badge, Button, Container, Group, SegmentedControl, Select, Stack, Text, Title } from '@mantine/core';
import { useState } from 'react';
import { Access } from './Access';
import { Flow, type Link } from './Flow';
import { Operators } from './Operators';
import { clock, type Me, post } from './view';

const pages = [
  { value: 'flow', label: 'Activity' },
  { value: 'access', label: 'Access' },
  { value: 'operators', label: 'Operators' },
];

/** What every page of the console has around it: which space, which page, who is signed in. */
export function Frame({ who, onSignedOut }: { who: Me; onSignedOut: () => void }) {
  const [space, setSpace] = useState(who.spaces[0] ?? 'main');
  const [page, setPage] = useState(
    pages.some((p) => `#${p.value}` === location.hash) ? location.hash.slice(1) : 'flow',
  );
  const [link, setLink] = useState<Link>({ state: 'connecting' });
  const mayOperate = who.may === 'operate';

  async function signOut() {
    await post('sign-out', {});
    onSignedOut();
  }

  function show(value: string) {
    history.replaceState(null, '', `#${value}`);
    setPage(value);
  }

  return (
    <Container size="xl" py="md">
      <Stack>
        <Group justify="space-between">
          <Group>
            <Title order={3}>Rovett</Title>
            <Select
              size="xs"
              w={140}
              data={who.spaces}
              value={space}
              onChange={(s) => s && setSpace(s)}
              allowDeselect={false}
              aria-label="Space"
            />
            <SegmentedControl size="xs" data={pages} value={page} onChange={show} aria-label="Page" />
            {page === 'flow' && <LinkBadge link={link} />}
          </Group>
          <Group>
            <Anchor size="sm" href="/reference">
              API reference
            </Anchor>
            <Text size="sm" c="dimmed">
              {who.operator}
              {!mayOperate && ' (may view)'}
            </Text>
            <Button size="xs" variant="default" onClick={signOut}>
              Sign out
            </Button>
          </Group>
        </Group>
        {page === 'flow' && (
          <Flow
            space={space}
            link={link}
            onLink={setLink}
            onSignedOut={onSignedOut}
            signOutUser={
              mayOperate ? (user) => void post(`sign-out-user?space=${encodeURIComponent(space)}`, { user }) : undefined
            }
          />
        )}
        {page === 'access' && <Access space={space} />}
        {page === 'operators' && <Operators mayOperate={mayOperate} />}
      </Stack>
    </Container>
  );
}

function LinkBadge({ link }: { link: Link }) {
  if (link.state === 'connecting') return <Badge color="gray">connecting</Badge>;
  return link.state === 'live' ? (
    <Badge color="teal" variant="light">
      live since {clock(link.since)}
    </Badge>
  ) : (
    <Badge color="red">no connection to the service since {clock(link.since)}; trying again</Badge>
  );
}
