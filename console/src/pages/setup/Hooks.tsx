import { TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import type { Webhook } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Head, Plank } from '../../look/Plank';
import { Asked, Empty } from '../../look/States';
import { Deciders } from './Deciders';
import { Fields, Once, Row, Taking, useAnew } from './shared';

/** Backends that are told of receipts, and those that policies ask. */
export function Hooks() {
  const { space } = useHere();
  const anew = useAnew();
  const hooks = useQuery({
    queryKey: [space, 'webhooks'],
    queryFn: () => api(space).get<{ webhooks: Webhook[] }>('/v1/webhooks'),
    refetchInterval: 5000,
  });
  const [name, setName] = useState('');
  const [url, setUrl] = useState('');
  const [made, setMade] = useState<Webhook | null>(null);
  const put = useMutation({
    mutationFn: () => api(space).send<Webhook>('PUT', `/v1/webhooks/${encodeURIComponent(name)}`, { url }),
    onSuccess: (hook) => {
      setMade(hook);
      setName('');
      setUrl('');
      return anew();
    },
  });
  return (
    <>
      <Plank>
        <Head title="Webhooks" beside="the backend is told who received and read what" />
        {made?.secret && (
          <Once
            what={`The webhook “${made.name}” signs with this secret`}
            secret={made.secret}
            onDone={() => setMade(null)}
          />
        )}
        <Fields verb="Add webhook" doing={put}>
          <TextInput
            label="Name"
            placeholder="backend"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            required
          />
          <TextInput
            label="Address"
            placeholder="https://backend.marrowsound.example/receipts"
            value={url}
            onChange={(e) => setUrl(e.currentTarget.value)}
            required
            w={340}
          />
        </Fields>
        <Asked query={hooks}>
          {(list) => (
            <>
              {list.webhooks.length === 0 && (
                <Empty title="No webhook">Receipts can also be read: GET /v1/receipts.</Empty>
              )}
              <ul>
                {list.webhooks.map((hook) => (
                  <Row
                    key={hook.name}
                    name={<b>{hook.name}</b>}
                    sign={hook.state === 'working' ? 'live' : hook.state === 'failing' ? 'watch' : 'denied'}
                    says={
                      <>
                        <code>{hook.url}</code> {hook.state}
                        {hook.lastError && `: ${hook.lastError}`}
                      </>
                    }
                  >
                    <Taking
                      name="Remove"
                      title={`Remove ${hook.name}?`}
                      verb="Remove webhook"
                      act={() => api(space).send('DELETE', `/v1/webhooks/${encodeURIComponent(hook.name)}`)}
                    >{`${hook.url} is told nothing more.`}</Taking>
                  </Row>
                ))}
              </ul>
            </>
          )}
        </Asked>
      </Plank>
      <Deciders />
    </>
  );
}
