import { Button, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import { many } from '../../api/times';
import type { SpaceMade, SpaceShown } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Head, Plank } from '../../look/Plank';
import { Asked } from '../../look/States';
import { Fields, Once, Row, Taking, useAnew } from './shared';

/** The spaces of the service. */
export function Spaces() {
  const { space, showSpace, spacesChanged } = useHere();
  const anew = useAnew();
  // Spaces are the service's, and the space main speaks for it.
  const spaces = useQuery({
    queryKey: [space, 'spaces'],
    queryFn: () => api('main').get<{ spaces: SpaceShown[] }>('/v1/spaces'),
    refetchInterval: 5000,
  });
  const [name, setName] = useState('');
  // Each is shown until it was taken note of: both are needed.
  const [made, setMade] = useState<{ what: string; secret: string }[]>([]);
  const create = useMutation({
    mutationFn: () => api('main').send<SpaceMade>('POST', '/v1/spaces', { name }),
    onSuccess: (next) => {
      setMade([
        { what: `The admin key of ${next.name}`, secret: next.credentials.adminKey },
        { what: `The secret that signs tokens of ${next.name}`, secret: next.credentials.tokenSigningSecret },
      ]);
      setName('');
      spacesChanged();
      return anew();
    },
  });
  return (
    <Plank>
      <Head title="Spaces" beside="each has its own people, keys, rules and history" />
      {made.map((one) => (
        <Once
          key={one.what}
          what={one.what}
          secret={one.secret}
          onDone={() => setMade((all) => all.filter((other) => other !== one))}
        />
      ))}
      <Fields verb="Create space" doing={create}>
        <TextInput
          label="Name"
          placeholder="harbour"
          value={name}
          onChange={(e) => setName(e.currentTarget.value)}
          required
        />
      </Fields>
      <Asked query={spaces}>
        {(list) => (
          <ul>
            {list.spaces.map((s) => (
              <Row
                key={s.name}
                name={<b>{s.name}</b>}
                says={
                  <>
                    <code>{s.path}</code>, {many(s.sessions, 'session')}
                  </>
                }
              >
                {s.name !== space && (
                  <Button variant="subtle" size="xs" onClick={() => showSpace(s.name)}>
                    Show {s.name}
                  </Button>
                )}
                {s.name !== 'main' && (
                  <Taking
                    name="Remove"
                    title={`Remove the space ${s.name}?`}
                    verb={`Remove ${s.name}`}
                    typed={s.name}
                    act={async () => {
                      await api('main').send('DELETE', `/v1/spaces/${encodeURIComponent(s.name)}`);
                      spacesChanged();
                    }}
                  >{`Its people, keys, rules and history are removed; ${many(s.sessions, 'session ends', 'sessions end')} at once. This cannot be undone.`}</Taking>
                )}
              </Row>
            ))}
          </ul>
        )}
      </Asked>
    </Plank>
  );
}
