import { TextInput } from '@mantine/core';
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api } from '../../api/door';
import type { LimitUse, Settings } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Head, Plank } from '../../look/Plank';
import { Asked } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Setup.module.css';
import { Fields, useAnew } from './shared';

/** Limits, and how much of each is used. */
export function Limits() {
  const { space } = useHere();
  const anew = useAnew();
  const limits = useQuery({
    queryKey: [space, 'limits'],
    queryFn: () => api(space).get<{ limits: LimitUse[] }>('/v1/limits'),
    refetchInterval: 5000,
  });
  const settings = useQuery({ queryKey: [space, 'settings'], queryFn: () => api(space).get<Settings>('/v1/settings') });
  const [edited, setEdited] = useState<Record<string, string>>({});
  const put = useMutation({
    mutationFn: () =>
      api(space).send('PATCH', '/v1/settings', {
        limits: Object.fromEntries(
          Object.entries(edited).map(([name, value]) => [name, value === '' ? null : Number(value)]),
        ),
      }),
    onSuccess: () => {
      setEdited({});
      return anew();
    },
  });
  return (
    <>
      <Plank>
        <Head title="Limits of this space" beside="empty: as the service’s configuration says" />
        <Asked query={settings}>
          {(value) => (
            <Fields verb="Set limits" doing={put} disabled={Object.keys(edited).length === 0}>
              {Object.entries(value.limits).map(([name, limit]) => (
                <TextInput
                  key={name}
                  label={name}
                  inputMode="numeric"
                  value={edited[name] ?? (limit === null ? '' : String(limit))}
                  onChange={(e) => setEdited({ ...edited, [name]: e.currentTarget.value })}
                />
              ))}
            </Fields>
          )}
        </Asked>
      </Plank>
      <Plank tone="sunken">
        <Head title="All limits and their use" />
        <Asked query={limits}>
          {(list) => (
            <div className={styles.scroll}>
              <table className={table.table}>
                <thead>
                  <tr>
                    <th>Limit</th>
                    <th>Of what</th>
                    <th className={table.number}>Set to</th>
                    <th className={table.number}>Used</th>
                  </tr>
                </thead>
                <tbody>
                  {list.limits.map((limit) => (
                    <tr key={limit.name}>
                      <th scope="row">{limit.name}</th>
                      <td>{limit.what}</td>
                      <td className={table.number}>{limit.limit?.toLocaleString('en-GB') ?? 'none'}</td>
                      <td className={table.number}>{limit.used.toLocaleString('en-GB')}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            </div>
          )}
        </Asked>
      </Plank>
    </>
  );
}
