import { Button, NumberInput, TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'wouter';
import { api } from '../../api/door';
import { many } from '../../api/times';
import type { Decider } from '../../api/types';
import { useHere } from '../../frame/facts';
import type { Sign } from '../../look/Glyph';
import { Head, Plank } from '../../look/Plank';
import { Asked, Empty } from '../../look/States';
import { Fields, Once, Row, Taking, useAnew } from './shared';

const signs: Record<Decider['state'], Sign> = {
  'not asked yet': 'stored',
  working: 'live',
  failing: 'watch',
  resting: 'denied',
};
const usual = { name: '', url: '', timeoutMs: 2000, allowSeconds: 300, denySeconds: 10 };

/** Backends that policies ask: made, changed by saving under the same name, removed. */
export function Deciders() {
  const { space } = useHere();
  const anew = useAnew();
  const [draft, setDraft] = useState(usual);
  const [made, setMade] = useState<Decider | null>(null);
  const all = useQuery({
    queryKey: [space, 'deciders'],
    queryFn: () => api(space).get<{ deciders: Decider[] }>('/v1/deciders'),
    refetchInterval: 5000,
  });
  const known = all.data?.deciders.find((d) => d.name === draft.name);
  const put = useMutation({
    mutationFn: () => {
      const { name, ...asked } = draft;
      return api(space).send<Decider>('PUT', `/v1/deciders/${encodeURIComponent(name)}`, asked);
    },
    onSuccess: (decider) => {
      setMade(decider);
      setDraft(usual);
      return anew();
    },
  });
  const number = (field: 'timeoutMs' | 'allowSeconds' | 'denySeconds', label: string) => (
    <NumberInput
      label={label}
      value={draft[field]}
      onChange={(value) => setDraft({ ...draft, [field]: Number(value) })}
      hideControls
      w={120}
    />
  );
  return (
    <Plank tone="sunken">
      <Head title="Deciders" beside="backends that policies ask" />
      {made?.secret && (
        <Once
          what={`Questions to “${made.name}” are signed with this secret`}
          secret={made.secret}
          onDone={() => setMade(null)}
        />
      )}
      <Fields verb={known ? 'Save decider' : 'Add decider'} doing={put}>
        <TextInput
          label="Name of the decider"
          placeholder="rosters"
          value={draft.name}
          onChange={(e) => setDraft({ ...draft, name: e.currentTarget.value })}
          required
        />
        <TextInput
          label="Address that is asked"
          placeholder="https://backend.marrowsound.example/decide"
          value={draft.url}
          onChange={(e) => setDraft({ ...draft, url: e.currentTarget.value })}
          required
          w={340}
        />
        {number('timeoutMs', 'Waited for, ms')}
        {number('allowSeconds', 'Allow holds, s')}
        {number('denySeconds', 'Deny holds, s')}
      </Fields>
      <Asked query={all}>
        {({ deciders }) => (
          <>
            {deciders.length === 0 && (
              <Empty title="No decider">
                Policies with <code>ask</code> need one. See <Link href="/channels">what policies say</Link>.
              </Empty>
            )}
            <ul>
              {deciders.map((d) => (
                <Row
                  key={d.name}
                  name={<b>{d.name}</b>}
                  sign={signs[d.state]}
                  says={
                    <>
                      <code>{d.url}</code> {d.state}, asked {many(d.asked, 'time')}
                      {d.asked > 0 && `: ${d.allowed} allowed, ${d.denied} denied, ${d.failed} failed`}
                      {d.lastError && `. Last failure: ${d.lastError}`}
                    </>
                  }
                >
                  <Button variant="subtle" size="xs" onClick={() => setDraft({ ...usual, ...pick(d) })}>
                    Change
                  </Button>
                  <Taking
                    name="Remove"
                    title={`Remove ${d.name}?`}
                    verb="Remove decider"
                    act={() => api(space).send('DELETE', `/v1/deciders/${encodeURIComponent(d.name)}`)}
                  >{`Policies that ask “${d.name}” allow nothing more.`}</Taking>
                </Row>
              ))}
            </ul>
          </>
        )}
      </Asked>
    </Plank>
  );
}

const pick = ({ name, url, timeoutMs, allowSeconds, denySeconds }: Decider) => ({
  name,
  url,
  timeoutMs,
  allowSeconds,
  denySeconds,
});
