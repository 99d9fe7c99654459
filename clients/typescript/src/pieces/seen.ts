import type { Live } from '../live.js';

const shown = new WeakMap<Live, number>();

/** The user sees the inbox from now on, until the function that it returns is called. */
export function inboxSeen(live: Live): () => void {
  shown.set(live, (shown.get(live) ?? 0) + 1);
  return () => shown.set(live, (shown.get(live) ?? 1) - 1);
}

export const isInboxSeen = (live: Live): boolean => (shown.get(live) ?? 0) > 0;
