import { Button, MultiSelect, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import { ago, when } from '../../api/times';
import type { ApiKey } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Chip, Head, Plank } from '../../look/Plank';
import { Asked, Failed } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Setup.module.css';
import { Fields, Once, Taking, useAnew } from './shared';

/** API keys: what backends call with. */
export function Keys() {
  const { space } = useHere();
  const anew = useAnew();
  const keys = useQuery({
    queryKey: [space, 'keys'],
    queryFn: () => api(space).get<{ keys: ApiKey[] }>('/v1/keys'),
    refetchInterval: 5000,
  });
  const [name, setName] = useState('');
  const [scopes, setScopes] = useState<string[]>(['send']);
  const [made, setMade] = useState<ApiKey | null>(null);
  const took = (key: ApiKey) => {
    setMade(key);
    setName('');
    return anew();
  };
  const create = useMutation({
    mutationFn: () => api(space).send<ApiKey>('POST', '/v1/keys', { name, scopes }),
    onSuccess: took,
  });
  const rotate = useMutation({
    mutationFn: (key: ApiKey) => api(space).send<ApiKey>('POST', `/v1/keys/${key.id}/rotate`, { overlap: '24h' }),
    onSuccess: took,
  });
  return (
    <Plank>
      <Head title="API keys" beside="what backends call with" />
      {made?.key && <Once what={`The key “${made.name}” was created`} secret={made.key} onDone={() => setMade(null)} />}
      <Fields verb="Create key" doing={create}>
        <TextInput
          label="Purpose"
          placeholder="ferry operations"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          required
        />
        <MultiSelect label="May" data={['send', 'read', 'admin']} value={scopes} onChange={setScopes} w={220} />
      </Fields>
      {rotate.error && <Failed error={rotate.error} />}
      <Asked query={keys}>
        {(list) => (
          <div className={styles.scroll}>
            <table className={table.table}>
              <thead>
                <tr>
                  <th>Key</th>
                  <th>May</th>
                  <th>Last used</th>
                  <th>Ends</th>
                  <th>
                    <span className="unseen">What can be done</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {list.keys.map((key) => (
                  <tr key={key.id}>
                    <th scope="row">
                      {key.name} <small>{key.id}</small>
                    </th>
                    <td>
                      {key.scopes.join(', ')}
                      {[
                        ...(key.types ?? []),
                        ...(key.addresses ?? []),
                        ...(key.events ?? []),
                        ...(key.sources ?? []),
                      ].map((only) => (
                        <Chip key={only} of="only">
                          {only}
                        </Chip>
                      ))}
                    </td>
                    <td>{key.lastUsed ? ago(key.lastUsed) : 'never'}</td>
                    <td>{key.revoked ? `revoked ${when(key.revoked)}` : key.ends ? when(key.ends) : 'never'}</td>
                    <td className={styles.acts}>
                      {!key.revoked && (
                        <>
                          <Button variant="subtle" size="xs" onClick={() => rotate.mutate(key)}>
                            Replace
                          </Button>
                          <Taking
                            name="Revoke"
                            title={`Revoke ${key.name}?`}
                            verb="Revoke key"
                            act={() => api(space).send('DELETE', `/v1/keys/${key.id}`)}
                          >{`Calls with it are refused from now on. ${key.lastUsed ? `It was used ${ago(key.lastUsed)}.` : 'It was never used.'}`}</Taking>
                        </>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Asked>
      <p className={styles.note}>
        Replacing creates another with the same rights; the old one still works for 24 hours.
      </p>
    </Plank>
  );
}
