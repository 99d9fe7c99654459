'use client';

import {
  createContext,
  type ReactNode,
  useCallback,
  useContext,
  useEffect,
  useRef,
  useState,
  useSyncExternalStore,
} from 'react';
import { InboxList, type InboxView } from '../list.js';
import { connect, type Live } from '../live.js';
import type { Notification, Said, Totals } from '../messages.js';
import type { LiveOptions, LiveState } from '../options.js';
import type { PresenceView } from '../presence.js';
import type { Readable } from '../value.js';

const Context = createContext<Live | null>(null);

/** Connects a user for all that is inside. Give it the user's id as `key`, so that another user gets another connection. */
export function RovettProvider({
  children,
  connect: connecting = connect,
  ...options
}: LiveOptions & {
  children?: ReactNode;
  /** What connects: `connectShared` of `rovett/shared` has all tabs share one connection. */
  connect?: (options: LiveOptions) => Live;
}) {
  const [live, setLive] = useState<Live | null>(null);
  const latest = useRef(options);
  latest.current = options;
  const { url, device, label } = options;
  // biome-ignore lint/correctness/useExhaustiveDependencies: what a connection is made for; the rest is read when it is needed
  useEffect(() => {
    const made = connecting({ ...latest.current, token: () => latest.current.token() });
    setLive(made);
    return () => {
      setLive(null);
      void made.close();
    };
  }, [url, device, label, connecting]);
  return <Context.Provider value={live}>{children}</Context.Provider>; // React 18 has no shorter form
}

/** The connection; null before it is made. */
export function useLive(): Live | null {
  return useContext(Context);
}

const silent = () => () => undefined;

export function useReadable<T>(readable: Readable<T> | null | undefined, before: T): T {
  return useSyncExternalStore(
    readable ? readable.subscribe : silent,
    () => (readable ? readable.value : before),
    () => before,
  );
}

/** The user's totals; null until they are known. */
export function useTotals(): Totals | null {
  return useReadable(useLive()?.totals, null);
}

/** How many notifications are unread; null until it is known. */
export function useUnreadTotal(): number | null {
  return useTotals()?.unread ?? null;
}

const notYet: LiveState = { phase: 'connecting', transport: null, tried: [], reconnects: 0 };

/** How the connection stands. */
export function useLiveState(): LiveState {
  return useReadable(useLive()?.state, notYet);
}

/** Calls a handler for each notification of a type (exact, ending in `*`, or `*`); always the newest one that was rendered. */
export function useNotificationHandler<D = unknown>(
  type: string,
  handler: (notification: Notification<D>) => unknown,
): void {
  const live = useLive();
  const latest = useRef(handler);
  latest.current = handler;
  useEffect(() => live?.on<D>(type, (notification) => latest.current(notification)), [live, type]);
}

/** Subscribes to a topic for as long as it is rendered. What comes is handled by `useNotificationHandler`. */
export function useTopic<D = unknown>(
  topic: string,
  onSaid?: (said: Said<D>) => void,
): { error: Error | null; say: (data: unknown) => Promise<void> } {
  const live = useLive();
  const [error, setError] = useState<Error | null>(null);
  const latest = useRef(onSaid);
  latest.current = onSaid;
  useEffect(() => {
    if (!live) return;
    let isOver = false;
    setError(null);
    live.subscribe(topic).catch((why) => isOver || setError(why));
    const stop = live.onSaid<D>((said) => said.to === `topic:${topic}` && latest.current?.(said));
    return () => {
      isOver = true;
      stop();
      live.unsubscribe(topic).catch(() => undefined);
    };
  }, [live, topic]);
  const say = useCallback(
    (data: unknown) => (live ? live.say(topic, data) : Promise.reject(new Error('not connected'))),
    [live, topic],
  );
  return { error, say };
}

const unknown: PresenceView = { count: null, people: null };

/** Who is on a topic (`topic:berth/3`) or role (`role:engineer`) now, for as long as it is rendered. */
export function usePresence(address: string): PresenceView {
  const live = useLive();
  const [here, setHere] = useState<(Readable<PresenceView> & { close(): void }) | null>(null);
  useEffect(() => {
    const made = live?.presence(address) ?? null;
    setHere(made);
    return () => made?.close();
  }, [live, address]);
  return useReadable(here, unknown);
}

const empty: InboxView = { items: [], loading: true, hasMore: false };

/** The inbox, newest first: older pages on request, new notifications on top. */
export function useInboxPages(
  options: { state?: 'all' | 'unread' | 'read'; limit?: number } = {},
): InboxView & { list: InboxList | null } {
  const live = useLive();
  const { state, limit } = options;
  const [list, setList] = useState<InboxList | null>(null);
  useEffect(() => {
    if (!live) return;
    const made = new InboxList(live, { state, limit });
    setList(made);
    return () => {
      setList(null);
      made.close();
    };
  }, [live, state, limit]);
  return { ...useReadable(list, empty), list };
}
