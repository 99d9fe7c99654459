import { Button, MultiSelect, TextInput } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { api } from '../../api/door';
import { many, when } from '../../api/times';
import type { Grant } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Ask } from '../../look/Ask';
import { Glyph } from '../../look/Glyph';
import { Chip, Head, Plank } from '../../look/Plank';
import { Asked, Failed } from '../../look/States';
import styles from './Channels.module.css';

/** Rights that were given beside the policies. */
export function Grants() {
  const { space, mayOperate } = useHere();
  const queries = useQueryClient();
  const grants = useQuery({
    queryKey: [space, 'grants'],
    queryFn: () => api(space).get<{ grants: Grant[]; next?: number }>('/v1/grants'),
    refetchInterval: 5000,
  });
  const [who, setWho] = useState('');
  const [topic, setTopic] = useState('');
  const [may, setMay] = useState<string[]>(['subscribe']);
  const [until, setUntil] = useState('');
  const [ending, setEnding] = useState<Grant | null>(null);
  const give = useMutation({
    mutationFn: () => {
      const [kind, ...rest] = who.includes(':') ? who.split(':') : ['user', who];
      return api(space).send('POST', '/v1/grants', {
        [kind === 'role' ? 'role' : 'user']: rest.join(':'),
        topic,
        may,
        ...(until && { until: new Date(until).toISOString() }),
      });
    },
    onSuccess: () => {
      setWho('');
      setTopic('');
      return queries.invalidateQueries({ queryKey: [space] });
    },
  });
  const submit = (event: FormEvent) => {
    event.preventDefault();
    give.mutate();
  };
  return (
    <Plank tone="sunken">
      <Head title="Grants" beside="rights of one person or role, beside the policies" />
      <Asked query={grants}>
        {(list) => (
          <>
            {list.grants.length === 0 && <p>None.</p>}
            <ul>
              {list.grants.map((grant) => (
                <li key={grant.grant} className={styles.policy}>
                  <Glyph sign="allowed" />
                  <b>{grant.user ? `user:${grant.user}` : `role:${grant.role}`}</b>
                  <span className={styles.chips}>
                    <Chip of="on">{grant.topic}</Chip>
                    <Chip of="may">{grant.may.join(', ')}</Chip>
                    <Chip of="until">{grant.until ? when(grant.until) : 'it is ended'}</Chip>
                  </span>
                  {mayOperate && (
                    <Button variant="subtle" size="xs" onClick={() => setEnding(grant)}>
                      End
                    </Button>
                  )}
                </li>
              ))}
            </ul>
            {list.next && <p>{many(list.grants.length, 'grant')} shown; there are more.</p>}
          </>
        )}
      </Asked>
      {mayOperate && (
        <form className={styles.give} onSubmit={submit}>
          <TextInput
            label="To whom"
            placeholder="teo, or role:deckhand"
            value={who}
            onChange={(e) => setWho(e.currentTarget.value)}
            required
          />
          <TextInput
            label="Topic"
            placeholder="berth/3"
            value={topic}
            onChange={(e) => setTopic(e.currentTarget.value)}
            required
          />
          <MultiSelect
            label="May"
            data={['subscribe', 'follow', 'say', 'presence']}
            value={may}
            onChange={setMay}
            w={240}
          />
          <TextInput
            label="Until"
            type="datetime-local"
            value={until}
            onChange={(e) => setUntil(e.currentTarget.value)}
          />
          <Button type="submit" variant="default" loading={give.isPending}>
            Give the grant
          </Button>
        </form>
      )}
      {give.error && <Failed error={give.error} />}
      {ending && (
        <Ask
          title="End the grant?"
          verb="End grant"
          act={() => api(space).send('DELETE', `/v1/grants/${ending.grant}`)}
          onClose={() => setEnding(null)}
        >
          {ending.user ?? `Everyone with the role ${ending.role}`} leaves topic:{ending.topic} at once, where no policy
          allows it.
        </Ask>
      )}
    </Plank>
  );
}
