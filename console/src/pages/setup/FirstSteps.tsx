import { SegmentedControl } from '@mantine/core';
import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { Link } from 'wouter';
import { api } from '../../api/door';
import type { UserSummary } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph } from '../../look/Glyph';
import { Head, Plank } from '../../look/Plank';
import styles from './Setup.module.css';
import { Copy } from './shared';
import { sending } from './snippets';

/** What somebody does first, in this order. */
export const steps: { id: string; what: string; how: ReactNode }[] = [
  { id: 'key', what: 'An API key is in use', how: <Link href="/setup/keys">Create one for your backend</Link> },
  { id: 'sent', what: 'A notification was sent', how: 'Run a snippet below' },
  { id: 'connected', what: 'Somebody has connected', how: <Link href="/side">See it Side by side</Link> },
  { id: 'received', what: 'Somebody has received one', how: <Link href="/side">See it arrive</Link> },
  {
    id: 'second',
    what: 'A second person is known',
    how: <Link href="/side">Show that one does not get what is the other’s</Link>,
  },
  { id: 'rules', what: 'Rules are loaded', how: <Link href="/rules">Write the first</Link> },
  {
    id: 'webhook',
    what: 'A webhook is told of receipts',
    how: <Link href="/setup/hooks">Add one, if the backend is to know</Link>,
  },
];

/** The first steps, and code to copy. */
export function FirstSteps({ done }: { done: readonly string[] }) {
  const { space } = useHere();
  const people = useQuery({
    queryKey: [space, 'setup-people'],
    queryFn: () => api(space).get<{ users: UserSummary[] }>('/v1/users?limit=1'),
  });
  const [language, setLanguage] = useState('curl');
  const snippet = sending.find((s) => s.id === language) ?? sending[0];
  const url = location.origin + (space === 'main' ? '' : `/s/${space}`);
  const code = snippet?.text({ url, to: `user:${people.data?.users[0]?.id ?? 'mara'}` }) ?? '';
  return (
    <>
      <Plank>
        <ol className={styles.steps}>
          {steps.map((step) => {
            const isDone = done.includes(step.id);
            return (
              <li key={step.id} data-step={step.id} data-done={isDone}>
                <Glyph sign={isDone ? 'read' : 'stored'} label={isDone ? 'done' : 'to do'} />
                <b>{step.what}</b>
                {!isDone && <span>{step.how}</span>}
              </li>
            );
          })}
        </ol>
      </Plank>
      <Plank tone="sunken">
        <Head
          title="Send one"
          beside={`needs ${snippet?.needs}; the key in ROVETT_KEY`}
          end={
            <SegmentedControl
              size="xs"
              aria-label="Language"
              data={sending.map((s) => ({ value: s.id, label: s.name }))}
              value={language}
              onChange={setLanguage}
            />
          }
        />
        {/* biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keyboard. */}
        <pre className={styles.code} data-snippet={language} tabIndex={0}>
          {code}
        </pre>
        <Copy text={code} what="Copy code" />
      </Plank>
    </>
  );
}
