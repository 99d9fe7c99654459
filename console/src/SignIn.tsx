import { Button, PasswordInput, TextInput } from '@mantine/core';
import { type FormEvent, useState } from 'react';
import { own, type Problem, Refused } from './api/door';
import { Glyph } from './look/Glyph';
import { Mark } from './look/Mark';
import { Failed } from './look/States';
import styles from './SignIn.module.css';

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
    try {
      await own.post(link ? 'sign-up' : 'sign-in', { name, password, ...(link && { link }) });
    } catch (error) {
      setProblem(error instanceof Refused ? error.problem : { title: String(error), detail: '' });
      return;
    } finally {
      setBusy(false);
    }
    history.replaceState(null, '', location.pathname);
    onDone();
  }

  return (
    <main className={styles.page}>
      <form className={styles.form} onSubmit={submit}>
        <p className={styles.plate}>
          <Mark size={40} /> Rovett
        </p>
        <h1>{link ? 'Sign up' : 'Sign in'}</h1>
        {link && <p>Choose a name and a password of at least 10 characters. This link works once.</p>}
        {!link && !anyOperator && (
          <p className={styles.note}>
            <Glyph sign="watch" /> Nobody can sign in yet. The service printed a one-time sign-up link when it first
            started. If its 15 minutes are over, restart it with <code>--console-link</code>.
          </p>
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
        {problem && <Failed error={new Refused(problem)} />}
        <Button type="submit" loading={busy}>
          {link ? 'Sign up' : 'Sign in'}
        </Button>
      </form>
    </main>
  );
}
