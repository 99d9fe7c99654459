import { Alert, Badge, Button, Code, Group, Paper, Stack, Table, Text, Title } from '@mantine/core';
import { useCallback, useEffect, useState } from 'react';
import { ask, clock, day, type OperatorsView, type Problem, post, postFor } from './view';

/** Operators, and who signed in or tried to. */
export function Operators({ mayOperate }: { mayOperate: boolean }) {
  const [view, setView] = useState<OperatorsView | null>(null);
  const [link, setLink] = useState<string | null>(null);
  const [problem, setProblem] = useState<Problem | null>(null);
  const look = useCallback(async () => {
    const got = await ask<OperatorsView>('operators');
    if (!('problem' in got)) setView(got.value);
  }, []);
  useEffect(() => void look(), [look]);

  async function invite(may: string) {
    const made = await postFor<{ link: string }>('links', { may });
    if ('problem' in made) setProblem(made.problem);
    else setLink(location.origin + made.value.link);
  }

  async function remove(name: string) {
    setProblem(await post('operators/remove', { name }));
    await look();
  }

  if (view === null) return null;
  return (
    <Stack>
      <Paper withBorder p="md">
        <Group justify="space-between" mb="xs">
          <Title order={5}>Operators</Title>
          {mayOperate && (
            <Group gap="xs">
              <Button size="xs" variant="default" onClick={() => invite('view')}>
                Invite to view
              </Button>
              <Button size="xs" variant="default" onClick={() => invite('operate')}>
                Invite to operate
              </Button>
            </Group>
          )}
        </Group>
        {link && (
          <Alert color="teal" mb="xs" title="A link that works once, for 15 minutes">
            <Code>{link}</Code>
          </Alert>
        )}
        {problem && (
          <Alert color="red" mb="xs" title={problem.title}>
            {problem.detail} {problem.fix}
          </Alert>
        )}
        <Table verticalSpacing={4}>
          <Table.Tbody>
            {view.operators.map((who) => (
              <Table.Tr key={who.name}>
                <Table.Td fw={500}>{who.name}</Table.Td>
                <Table.Td>may {who.may}</Table.Td>
                <Table.Td>since {day(who.since)}</Table.Td>
                <Table.Td ta="right">
                  {mayOperate && (
                    <Button size="compact-xs" variant="subtle" color="red" onClick={() => remove(who.name)}>
                      remove
                    </Button>
                  )}
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Paper>
      <Paper withBorder p="md">
        <Title order={5} mb="xs">
          Sign-ins
        </Title>
        <Table verticalSpacing={4}>
          <Table.Tbody>
            {view.signIns.map((at) => (
              <Table.Tr key={at.time + at.operator}>
                <Table.Td>
                  {day(at.time)} {clock(at.time)}
                </Table.Td>
                <Table.Td fw={500}>{at.operator}</Table.Td>
                <Table.Td>
                  <Badge size="sm" variant="light" color={at.signedIn ? 'teal' : 'red'}>
                    {at.signedIn ? 'signed in' : 'refused'}
                  </Badge>
                </Table.Td>
                <Table.Td>from {at.address}</Table.Td>
                <Table.Td>
                  <Text size="xs" c="dimmed">
                    {at.agent}
                  </Text>
                </Table.Td>
              </Table.Tr>
            ))}
          </Table.Tbody>
        </Table>
      </Paper>
    </Stack>
  );
}
