import { Button, CopyButton, Select, Switch, Textarea, TextInput } from '@mantine/core';
import { useDebouncedValue } from '@mantine/hooks';
import { useMutation, useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { api } from '../../api/door';
import { many } from '../../api/times';
import type { Sent } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Failed } from '../../look/States';
import styles from './Side.module.css';

export interface Draft {
  to: string[];
  type: string;
  title: string;
  urgency: string;
  takeable?: true;
}

const addresses = (text: string) =>
  text
    .split(/[\s,]+/)
    .filter(Boolean)
    .map((a) => (/^(user|role|topic):|^everyone$/.test(a) ? a : `user:${a}`));

/** The sender: as a backend would, by the API. */
export function BackOffice({ first, onSent }: { first: string; onSent: (draft: Draft, sent: Sent) => void }) {
  const { space, mayOperate } = useHere();
  const [to, setTo] = useState<string | null>(null);
  const [title, setTitle] = useState('Turnstone: bow thruster check due');
  const [type, setType] = useState('engine.check.due');
  const [urgency, setUrgency] = useState('high');
  const [takeable, setTakeable] = useState(false);
  const given = to ?? (first ? `user:${first}` : '');
  const draft: Draft = { to: addresses(given), type, title, urgency, ...(takeable && { takeable: true }) };
  const [asked] = useDebouncedValue(JSON.stringify(draft), 400);
  const reach = useQuery({
    queryKey: [space, 'reach', asked],
    queryFn: () => api(space).send<Sent>('POST', '/v1/notifications?dryRun=true', JSON.parse(asked)),
    enabled: mayOperate && draft.to.length > 0 && title !== '' && type !== '',
    refetchInterval: 3000,
    retry: false,
  });
  const sending = useMutation({
    mutationFn: (sent: Draft) => api(space).send<Sent>('POST', '/v1/notifications', sent),
    onSuccess: (sent, sentDraft) => onSent(sentDraft, sent),
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    sending.mutate(draft);
  };
  const prefix = space === 'main' ? '' : `/s/${space}`;
  const curl = `curl ${location.origin}${prefix}/v1/notifications -H "Authorization: Bearer $ROVETT_API_KEY" --json '${JSON.stringify(draft).replaceAll("'", "'\\''")}'`;
  return (
    <section className={styles.office} aria-label="Back office">
      <h2>Back office</h2>
      <form onSubmit={submit}>
        <TextInput
          label="To"
          value={given}
          onChange={(e) => setTo(e.currentTarget.value)}
          description="user:…, role:…, topic:… or everyone"
          required
        />
        <Textarea
          label="Title"
          value={title}
          onChange={(e) => setTitle(e.currentTarget.value)}
          autosize
          minRows={2}
          required
        />
        <TextInput label="Type" value={type} onChange={(e) => setType(e.currentTarget.value)} required />
        <Select
          label="Urgency"
          data={['very-low', 'low', 'normal', 'high']}
          value={urgency}
          onChange={(value) => setUrgency(value ?? 'normal')}
          allowDeselect={false}
        />
        <Switch
          size="xs"
          label="Can be taken"
          checked={takeable}
          onChange={(e) => setTakeable(e.currentTarget.checked)}
        />
        <p className={styles.reach}>
          {reach.data && <Reach sent={reach.data} />}
          {!mayOperate && 'You may view. Sending needs the right to operate.'}
        </p>
        {(sending.error ?? reach.error) && <Failed error={(sending.error ?? reach.error) as Error} />}
        <Button type="submit" fullWidth loading={sending.isPending} disabled={!mayOperate}>
          Send
        </Button>
      </form>
      <CopyButton value={curl}>
        {({ copied, copy }) => (
          <Button variant="subtle" fullWidth onClick={copy}>
            {copied ? 'Copied' : 'Copy as curl'}
          </Button>
        )}
      </CopyButton>
    </section>
  );
}

function Reach({ sent }: { sent: Sent }) {
  const reach = sent.reach ?? [];
  const users = reach.reduce((sum, r) => sum + r.users, 0);
  const connected = reach.reduce((sum, r) => sum + r.connected, 0);
  const unknown = reach.filter((r) => !r.known).map((r) => r.address);
  return (
    <>
      Reaches {many(users, 'person', 'people')}, {connected} connected.
      {unknown.length > 0 && ` Nobody is known at ${unknown.join(', ')}.`}
    </>
  );
}
