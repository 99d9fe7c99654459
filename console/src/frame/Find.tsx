import { Spotlight, type SpotlightActionGroupData, spotlight } from '@mantine/spotlight';
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useLocation } from 'wouter';
import { api } from '../api/door';
import { when } from '../api/times';
import type { Listed, UserSummary } from '../api/types';
import { useHere } from './facts';
import { entries } from './nav';

export const openFind = spotlight.open;

const most = 8;

/** Finds people, notifications and pages from anywhere: Ctrl K or /. */
export function Find() {
  const { space } = useHere();
  const [, go] = useLocation();
  const [query, setQuery] = useState('');
  const wanted = query.trim();
  const { data } = useQuery({
    queryKey: [space, 'find', wanted],
    enabled: wanted.length > 1,
    placeholderData: keepPreviousData,
    queryFn: async () => {
      const text = encodeURIComponent(wanted);
      const [people, sent] = await Promise.all([
        api(space).get<{ users: UserSummary[] }>(`/v1/users?search=${text}&limit=${most}`),
        api(space).get<{ notifications: Listed[] }>(`/v1/notifications?text=${text}&limit=${most}`),
      ]);
      return { people: people.users, sent: sent.notifications };
    },
  });

  const pages: SpotlightActionGroupData = {
    group: 'Pages',
    actions: entries
      .filter((e) => `${e.name} ${e.also}`.toLowerCase().includes(wanted.toLowerCase()))
      .map((e) => ({ id: e.path, label: e.name, onClick: () => go(e.path) })),
  };
  const found: SpotlightActionGroupData[] =
    wanted.length > 1 && data
      ? [
          {
            group: 'People',
            actions: data.people.map((p) => ({
              id: `person ${p.id}`,
              label: p.displayName ?? p.id,
              description: p.id,
              onClick: () => go(`/people/${encodeURIComponent(p.id)}`),
            })),
          },
          {
            group: 'Notifications',
            actions: data.sent.map((n) => ({
              id: n.id,
              label: n.title,
              description: `${n.type} to ${n.to.join(', ')}, ${when(n.time)}`,
              onClick: () => go(`/activity/${n.id}`),
            })),
          },
        ]
      : [];
  return (
    <Spotlight
      actions={[...found, pages].filter((g) => g.actions.length > 0)}
      filter={(_, actions) => actions}
      query={query}
      onQueryChange={setQuery}
      nothingFound="Nothing of this name."
      shortcut={['mod + K', '/']}
      scrollable
      attributes={{ content: { 'aria-label': 'Find' } }}
      maxHeight={420}
      searchProps={{ placeholder: 'People, notifications, pages', 'aria-label': 'Find' }}
    />
  );
}
