import { TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import { when } from '../../api/times';
import type { SigningKey } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Head, Plank } from '../../look/Plank';
import { Asked } from '../../look/States';
import { Fields, Once, Row, Taking, useAnew } from './shared';

const kinds: Record<SigningKey['kind'], string> = {
  secret: 'secret of the backend (HS256)',
  publicKey: 'public key',
  keySet: 'key set',
  issuer: 'OpenID Connect issuer',
};

/** What users’ tokens are signed with. */
export function SigningKeys() {
  const { space } = useHere();
  const anew = useAnew();
  const keys = useQuery({
    queryKey: [space, 'signing-keys'],
    queryFn: () => api(space).get<{ signingKeys: SigningKey[] }>('/v1/signing-keys'),
  });
  const [name, setName] = useState('');
  const [address, setAddress] = useState('');
  const [made, setMade] = useState<SigningKey | null>(null);
  const create = useMutation({
    mutationFn: () =>
      api(space).send<SigningKey>('POST', '/v1/signing-keys', {
        name,
        ...(address &&
          (address.endsWith('.json') || address.includes('jwks') ? { keySet: address } : { issuer: address })),
      }),
    onSuccess: (key) => {
      setMade(key);
      setName('');
      setAddress('');
      return anew();
    },
  });
  return (
    <Plank>
      <Head title="Signing keys" beside="what users’ tokens are signed with" />
      {made?.secret && (
        <Once what={`The secret “${made.name}” was created`} secret={made.secret} onDone={() => setMade(null)} />
      )}
      <Fields verb="Add signing key" doing={create}>
        <TextInput
          label="Name"
          placeholder="backend 2027"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          required
        />
        <TextInput
          label="Address of an issuer or key set"
          description="Leave it empty to have a secret created."
          placeholder="https://login.marrowsound.example"
          value={address}
          onChange={(e) => setAddress(e.currentTarget.value)}
          w={320}
        />
      </Fields>
      <Asked query={keys}>
        {(list) => (
          <ul>
            {list.signingKeys.map((key) => (
              <Row
                key={key.name}
                name={<b>{key.name}</b>}
                says={
                  <>
                    {kinds[key.kind]}, since {when(key.created)}
                  </>
                }
              >
                <Taking
                  name="Remove"
                  title={`Remove ${key.name}?`}
                  verb="Remove signing key"
                  typed={key.name}
                  act={() => api(space).send('DELETE', `/v1/signing-keys/${encodeURIComponent(key.name)}`)}
                >
                  Tokens that it signed are refused from now on, and the sessions opened by them end.
                </Taking>
              </Row>
            ))}
          </ul>
        )}
      </Asked>
    </Plank>
  );
}
