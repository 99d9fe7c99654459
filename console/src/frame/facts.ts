import { useQuery } from '@tanstack/react-query';
import { createContext, useContext } from 'react';
import { own } from '../api/door';
import type { Facts, Me } from '../api/types';

/** Who is signed in, and which space is shown. */
export interface Here {
  who: Me;
  space: string;
  mayOperate: boolean;
  showSpace: (space: string) => void;
  /** Spaces were made or removed. */
  spacesChanged: () => void;
  signOut: () => void;
}

export const HereContext = createContext<Here | null>(null);

export function useHere(): Here {
  const here = useContext(HereContext);
  if (!here) throw new Error('No page is shown without its frame.');
  return here;
}

/** What the navigation tells, asked again every five seconds. */
export function useFacts() {
  const { space } = useHere();
  return useQuery({
    queryKey: [space, 'facts'],
    queryFn: () => own.get<Facts>(`facts?space=${encodeURIComponent(space)}`),
    refetchInterval: 5000,
  });
}
