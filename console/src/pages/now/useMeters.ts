import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { api } from '../../api/door';
import type { Meters } from '../../api/types';
import { useHere } from '../../frame/facts';
import type { Over } from './traces';

/** What the meters counted over a window, asked again as often as its steps are worth it. */
export function useMeters(over: Over) {
  const { space } = useHere();
  return useQuery({
    queryKey: [space, 'meters', over],
    queryFn: () => api(space).get<Meters>(`/v1/meters?over=${over}`),
    refetchInterval: over === '15m' ? 5000 : 30_000,
    placeholderData: keepPreviousData,
  });
}
