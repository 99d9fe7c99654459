import '@mantine/core/styles.css';
import {
  Anchor,
  Badge,
  Button,
  Container,
  createTheme,
  Group,
  MantineProvider,
  Select,
  SimpleGrid,
  Stack,
  Text,
  Title,
} from '@mantine/core';
import { StrictMode, useEffect, useState } from 'react';
import { createRoot } from 'react-dom/client';
import { Device } from './DevicePanel';

interface Person {
  id: string;
  name: string;
  roles: string[];
}

const theme = createTheme({ primaryColor: 'teal', fontFamily: 'system-ui, sans-serif', defaultRadius: 'sm' });

function App() {
  const [office, setOffice] = useState<{ service: string; people: Person[] } | null>(null);
  const [next, setNext] = useState(0);
  useEffect(() => void fetch('/api/people').then(async (r) => setOffice(await r.json())), []);
  if (!office) return null;

  async function happen() {
    setNext(next + 1);
    await fetch(`/api/happen?number=${next}`, { method: 'POST' });
  }

  return (
    <Container size="xl" py="md">
      <Group justify="space-between" mb="md">
        <div>
          <Title order={3}>Marrow Sound Ferries</Title>
          <Text size="sm" c="dimmed">
            What the crew sees: two people side by side, each with their own notices and nobody else's.{' '}
            <Anchor href="small.html">Only a bell and an inbox</Anchor>
          </Text>
        </div>
        <Button onClick={() => void happen()}>Send an event</Button>
      </Group>
      <SimpleGrid cols={2}>
        <PersonColumn office={office} start="mara" devices={['desk', 'phone']} />
        <PersonColumn office={office} start="teo" devices={['phone']} />
      </SimpleGrid>
    </Container>
  );
}

function PersonColumn({
  office,
  start,
  devices,
}: {
  office: { service: string; people: Person[] };
  start: string;
  devices: string[];
}) {
  const [id, setId] = useState(start);
  const [labels, setLabels] = useState(devices);
  const person = office.people.find((p) => p.id === id) as Person;
  return (
    <Stack gap="sm" data-person={id}>
      <Group justify="space-between">
        <Group gap="xs">
          <Select
            size="xs"
            w={150}
            aria-label="Person"
            data={office.people.map((p) => ({ value: p.id, label: p.name }))}
            value={id}
            onChange={(value) => value && setId(value)}
            allowDeselect={false}
          />
          {person.roles.map((role) => (
            <Badge key={role} variant="light" color="gray">
              {role}
            </Badge>
          ))}
        </Group>
        {labels.length < 2 && (
          <Button size="compact-xs" variant="default" onClick={() => setLabels(['phone', 'desk'])}>
            add a device
          </Button>
        )}
      </Group>
      {labels.map((label) => (
        <Device key={`${id}-${label}`} service={office.service} user={id} role={person.roles[0] ?? ''} label={label} />
      ))}
    </Stack>
  );
}

createRoot(document.getElementById('root') as HTMLElement).render(
  <StrictMode>
    <MantineProvider theme={theme} defaultColorScheme="auto">
      <App />
    </MantineProvider>
  </StrictMode>,
);
