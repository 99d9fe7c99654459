import { useEffect, useState } from 'react';
import type { LiveRow, Session } from '../../api/types';

export interface LiveView {
  notifications: LiveRow[];
  sessions: Session[];
}

/** What arrives, as it arrives: at most four times a second, however much it is. Null until the first. */
export function useLive(space: string): { view: LiveView | null; lostSince: number | null } {
  const [view, setView] = useState<LiveView | null>(null);
  const [lostSince, setLostSince] = useState<number | null>(null);
  useEffect(() => {
    const stream = new EventSource(`/console/api/live?space=${encodeURIComponent(space)}`);
    stream.addEventListener('view', (event) => {
      setView(JSON.parse((event as MessageEvent<string>).data));
      setLostSince(null);
    });
    stream.onerror = () => setLostSince((since) => since ?? Date.now());
    return () => stream.close();
  }, [space]);
  return { view, lostSince };
}
