import {
  Alert,
  Badge,
  Button,
  Code,
  Grid,
  Group,
  Paper,
  ScrollArea,
  Stack,
  Table,
  Text,
  TextInput,
  Title,
} from '@mantine/core';
import { type FormEvent, useCallback, useEffect, useState } from 'react';
import { type AccessView, ask, clock, type Explanation, type Problem, type Step } from './view';

/** Who may be on which channel and why; who was refused; what limits are at. */
export function Access({ space }: { space: string }) {
  const [view, setView] = useState<AccessView | null>(null);
  const look = useCallback(async () => {
    const got = await ask<AccessView>(`access?space=${encodeURIComponent(space)}`);
    if (!('problem' in got)) setView(got.value);
  }, [space]);
  useEffect(() => {
    void look();
    const again = setInterval(look, 5000);
    return () => clearInterval(again);
  }, [look]);

  if (view === null) return null;
  return (
    <Grid>
      <Grid.Col span={{ base: 12, md: 7 }}>
        <Stack>
          <Explain space={space} />
          <Acts view={view} />
        </Stack>
      </Grid.Col>
      <Grid.Col span={{ base: 12, md: 5 }}>
        <Stack>
          <Policies view={view} />
          <RefusedOrigins view={view} />
          <Limits view={view} />
        </Stack>
      </Grid.Col>
    </Grid>
  );
}

const colour: Record<string, string> = {
  allows: 'teal',
  allow: 'teal',
  forbids: 'red',
  deny: 'red',
  asks: 'blue',
  ask: 'blue',
};

function Explain({ space }: { space: string }) {
  const [user, setUser] = useState('');
  const [on, setOn] = useState('');
  const [answer, setAnswer] = useState<{ value: Explanation } | { problem: Problem } | null>(null);

  async function submit(event: FormEvent) {
    event.preventDefault();
    const query = new URLSearchParams({ space, user, on });
    setAnswer(await ask<Explanation>(`explain?${query}`));
  }

  return (
    <Paper withBorder p="md">
      <Title order={5} mb="xs">
        Check a user’s access
      </Title>
      <form onSubmit={submit}>
        <Group align="end">
          <TextInput
            label="user"
            placeholder="teo"
            value={user}
            onChange={(e) => setUser(e.currentTarget.value)}
            required
            w={140}
          />
          <TextInput
            label="on"
            placeholder="topic:berth/3"
            value={on}
            onChange={(e) => setOn(e.currentTarget.value)}
            required
            w={220}
          />
          <Button type="submit">Explain</Button>
        </Group>
      </form>
      {answer && 'problem' in answer && (
        <Alert color="red" mt="sm" title={answer.problem.title}>
          {answer.problem.detail}
        </Alert>
      )}
      {answer && 'value' in answer && (
        <Stack gap="xs" mt="sm">
          <Text>
            {answer.value.user} is {answer.value.onChannel ? '' : 'not '}on the channel of {answer.value.on} now.
          </Text>
          <Steps steps={answer.value.steps} />
          {answer.value.rights?.map((right) => (
            <div key={right.right}>
              <Group gap="xs" mt="xs">
                <Text fw={600}>{right.right}</Text>
                <Badge variant="light" color={colour[right.decision]}>
                  {right.decision}
                </Badge>
                <Text size="sm">{right.by}</Text>
              </Group>
              <Steps steps={right.steps} />
            </div>
          ))}
        </Stack>
      )}
    </Paper>
  );
}

function Steps({ steps }: { steps: Step[] }) {
  return (
    <Table verticalSpacing={2} horizontalSpacing="xs">
      <Table.Tbody>
        {steps.map((step) => (
          <Table.Tr key={step.what + step.why}>
            <Table.Td w={190}>
              <Text size="sm">{step.what}</Text>
            </Table.Td>
            <Table.Td w={120}>
              <Text size="sm" c={colour[step.outcome] ?? 'dimmed'}>
                {step.outcome}
              </Text>
            </Table.Td>
            <Table.Td>
              <Text size="sm">{step.why}</Text>
              {step.fix && (
                <Text size="xs" c="dimmed">
                  fix: {step.fix}
                </Text>
              )}
            </Table.Td>
          </Table.Tr>
        ))}
      </Table.Tbody>
    </Table>
  );
}

function Acts({ view }: { view: AccessView }) {
  return (
    <Paper withBorder p="md">
      <Title order={5} mb="xs">
        Audit log
      </Title>
      {view.acts.length === 0 && <Text c="dimmed">No entries yet.</Text>}
      <ScrollArea.Autosize mah={420}>
        <Table verticalSpacing={2}>
          <Table.Tbody>
            {view.acts.map((act) => (
              <Table.Tr key={act.number}>
                <Table.Td w={80}>
                  <Text size="xs">{clock(act.time)}</Text>
                </Table.Td>
                <Table.Td>
                  <Text size="sm" c={act.act.endsWith('refused') ? 'red' : undefined}>
                    {act.act} · {act.about}
                  </Text>
                  <Text size="xs" c="dimmed">
                    by {act.actor}
                    {Object.entries(act.detail).map(
                      ([name, value]) => ` · ${name}: ${typeof value === 'string' ? value : JSON.stringify(value)}`,
                    )}
                  </Text>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </ScrollArea.Autosize>
    </Paper>
  );
}

function Policies({ view }: { view: AccessView }) {
  return (
    <Paper withBorder p="md">
      <Group justify="space-between" mb="xs">
        <Title order={5}>Policies</Title>
        <Text size="sm" c="dimmed">
          {view.policyVersion === 0 ? 'none loaded' : `version ${view.policyVersion}`}
        </Text>
      </Group>
      {view.policies.length === 0 && (
        <Text c="dimmed" size="sm">
          Nobody may take a topic without a grant. Load some: rovett policies load policies.yaml
        </Text>
      )}
      <ScrollArea.Autosize mah={260}>
        <Stack gap={6}>
          {view.policies.map((policy) => (
            <div key={policy.name}>
              <Text size="sm">
                <Text span fw={600}>
                  {policy.name}
                </Text>{' '}
                <Code>{policy.topic}</Code>
              </Text>
              <Text size="xs" c={policy.never ? 'red' : 'dimmed'}>
                {policy.never ? `never ${policy.never.join(', ')}` : `may ${policy.may?.join(', ')}`} when{' '}
                {JSON.stringify(policy.when)}
                {policy.ask && `, asks ${policy.ask}`}
              </Text>
            </div>
          ))}
        </Stack>
      </ScrollArea.Autosize>
      {view.deciders.map((decider) => (
        <Alert key={decider.name} mt="xs" p="xs" color={decider.resting ? 'red' : 'gray'}>
          decider {decider.name}: asked {decider.asked} times, {decider.failed} without an answer
          {decider.resting && ', is left alone for a while'}
          {decider.lastError && `; last: ${decider.lastError}`}
        </Alert>
      ))}
    </Paper>
  );
}

function RefusedOrigins({ view }: { view: AccessView }) {
  return (
    <Paper withBorder p="md">
      <Title order={5} mb="xs">
        Blocked origins
      </Title>
      {view.refusedOrigins.length === 0 && (
        <Text c="dimmed" size="sm">
          None since the start.
        </Text>
      )}
      {view.refusedOrigins.map((refused) => (
        <Text size="sm" key={refused.origin}>
          <Code>{refused.origin}</Code> {refused.count} times, last at {clock(refused.last)}. If the page is yours, add
          exactly this to the setting <Code>origins</Code>.
        </Text>
      ))}
    </Paper>
  );
}

function Limits({ view }: { view: AccessView }) {
  return (
    <Paper withBorder p="md">
      <Title order={5} mb="xs">
        Limits and current use
      </Title>
      <Table verticalSpacing={1}>
        <Table.Tbody>
          {view.limits.map((limit) => (
            <Table.Tr key={limit.name}>
              <Table.Td>
                <Text size="xs" title={limit.what}>
                  {limit.name}
                </Text>
              </Table.Td>
              <Table.Td ta="right">
                <Text size="xs">
                  {limit.used > 0 ? `${limit.used} of ` : ''}
                  {limit.limit === 0 ? 'any' : limit.limit}
                </Text>
              </Table.Td>
            </Table.Tr>
          ))}
        </Table.Tbody>
      </Table>
    </Paper>
  );
}
