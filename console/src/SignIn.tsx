import { Alert, Button, Center, Paper, PasswordInput, Stack, Text, TextInput, Title } from '@mantine/core';
import { type FormEvent, useState } from 'react';
import { type Problem, post } from './view';

/** Signing in, or signing up with the one-time link that the service printed. */
export function SignIn({ anyOperator, onDone }: { anyOperator: boolean; onDone: () => void }) {
  const link = new URLSearchParams(location.hash.slice(1)).get('sign-up');
  const [name, setName] = useState('');
  const [password, setPassword] = useState('');
  const [problem, setProblem] = useState<Problem | null>(null);
  const [busy, setBusy] = useState(false);

  async function submit(event: FormEvent) {
    event.preventDefault();
    setBusy(true);
    const refused = await post(link ? 'sign-up' : 'sign-in', { name, password, ...(link && { link }) });
    setBusy(false);
    setProblem(refused);
    if (refused) return;
    history.replaceState(null, '', location.pathname);
    onDone();
  }

  return (
    <Center h="100vh">
      <Paper withBorder p="xl" w={400} component="form" onSubmit={submit}>
        <Stack>
          <Title order={3}>Rovett console</Title>
          {link ? (
            <Text size="sm">Choose a name and a password of at least 10 characters. This link works once.</Text>
          ) : (
            !anyOperator && (
              <Alert color="yellow" title="Nobody can sign in yet">
                The service printed a one-time sign-up link when it first started. If its 15 minutes are over, restart
                it with --console-link.
              </Alert>
            )
          )}
          <TextInput
            label="Name"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            autoComplete="username"
            required
          />
          <PasswordInput
            label="Password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
            autoComplete={link ? 'new-password' : 'current-password'}
            required
          />
          {problem && (
            <Alert color="red" title={problem.title}>
              {problem.detail} {problem.fix}
            </Alert>
          )}
          <Button type="submit" loading={busy}>
            {link ? 'Sign up' : 'Sign in'}
          </Button>
        </Stack>
      </Paper>
    </Center>
  );
}
