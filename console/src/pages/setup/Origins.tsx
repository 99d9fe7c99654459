import { Button, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, own } from '../../api/door';
import { many, when } from '../../api/times';
import type { AccessView, Settings } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Head, Plank } from '../../look/Plank';
import { Asked } from '../../look/States';
import { Fields, Row, useAnew } from './shared';

/** Pages that may connect, and those that were refused. */
export function Origins() {
  const { space } = useHere();
  const anew = useAnew();
  const settings = useQuery({ queryKey: [space, 'settings'], queryFn: () => api(space).get<Settings>('/v1/settings') });
  const access = useQuery({
    queryKey: [space, 'access'],
    queryFn: () => own.get<AccessView>(`access?space=${encodeURIComponent(space)}`),
    refetchInterval: 5000,
  });
  const [typed, setTyped] = useState('');
  const put = useMutation({
    mutationFn: (origins: string[]) => api(space).send('PATCH', '/v1/settings', { origins }),
    onSuccess: () => {
      setTyped('');
      return anew();
    },
  });
  const allowed = settings.data?.origins ?? [];
  const refused = (access.data?.refusedOrigins ?? []).filter((r) => !allowed.includes(r.origin));
  return (
    <>
      <Plank>
        <Head title="Allowed origins" beside="pages of these addresses may connect; the service’s own always may" />
        <Asked query={settings}>
          {({ origins }) => (
            <>
              {origins === null && (
                <p>The service’s configuration decides. The first one added here takes its place.</p>
              )}
              <ul>
                {(origins ?? []).map((origin) => (
                  <Row key={origin} name={<code>{origin}</code>}>
                    <Button variant="subtle" size="xs" onClick={() => put.mutate(allowed.filter((o) => o !== origin))}>
                      Remove
                    </Button>
                  </Row>
                ))}
              </ul>
            </>
          )}
        </Asked>
        <Fields verb="Allow" doing={{ ...put, mutate: () => put.mutate([...allowed, typed]) }}>
          <TextInput
            label="Origin"
            placeholder="https://crew.marrowsound.example"
            value={typed}
            onChange={(e) => setTyped(e.currentTarget.value)}
            required
            w={320}
          />
        </Fields>
      </Plank>
      <Plank tone="sunken">
        <Head title="Refused lately" beside="since the service started" />
        {refused.length === 0 && <p>None.</p>}
        <ul>
          {refused.map((r) => (
            <Row
              key={r.origin}
              name={<code>{r.origin}</code>}
              says={
                <>
                  {many(r.count, 'time')}, last {when(r.last)}
                </>
              }
            >
              <Button variant="default" size="xs" onClick={() => put.mutate([...allowed, r.origin])}>
                Allow {r.origin}
              </Button>
            </Row>
          ))}
        </ul>
      </Plank>
    </>
  );
}
