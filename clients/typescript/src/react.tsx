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
import type { InboxItem } from './inbox.js';
import { InboxList, type InboxView } from './list.js';
import { connect, type Live } from './live.js';
import type { Notification, Said, Totals } from './messages.js';
import type { LiveOptions, LiveState } from './options.js';
import type { PresenceView } from './presence.js';
import type { Readable } from './value.js';

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

function useReadable<T>(readable: Readable<T> | null | undefined, before: T): T {
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

/** The inbox, newest first: pages as they are asked for, what comes live on top. */
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

/** A button with the unread count, shown and announced. Unstyled. */
export function UnreadBell({
  label = (unread) => `Notifications, ${unread ?? 'unknown'} unread`,
  most = 99,
  children,
  ...button
}: BellProps) {
  const unread = useUnreadTotal();
  return (
    <button type="button" aria-label={label(unread)} data-unread={unread ?? ''} {...button}>
      {children ?? <Bell />}
      {unread ? <span aria-hidden="true">{unread > most ? `${most}+` : unread}</span> : null}
    </button>
  );
}

export type BellProps = Omit<React.ComponentProps<'button'>, 'type'> & {
  /** What it is called, for those who don't see it. */
  label?: (unread: number | null) => string;
  /** More are shown as `99+`. */
  most?: number;
};

function Bell() {
  return (
    <svg
      width="1.2em"
      height="1.2em"
      viewBox="0 0 24 24"
      fill="none"
      stroke="currentColor"
      strokeWidth="2"
      aria-hidden="true"
    >
      <path d="M6 16V11a6 6 0 0 1 12 0v5l2 2H4zM10 20a2 2 0 0 0 4 0" strokeLinejoin="round" />
    </svg>
  );
}

/** The panels' texts; each can be given in another language. */
export const defaultTexts = {
  inbox: 'Notifications',
  empty: 'No notifications yet.',
  loading: 'Loading …',
  failed: 'Notifications could not be loaded.',
  again: 'Try again',
  more: 'Load older',
  markRead: 'Mark read',
  markAllRead: 'Mark all read',
  mutes: 'Muted',
  noMutes: 'Nothing is muted.',
  unmute: 'Unmute',
};

export type Texts = typeof defaultTexts;

/** The user's notifications with their acts. Unstyled: each part has a `data-part`, unread items `data-unread`. */
export function InboxPanel({ limit = 20, texts: given, render, ...section }: InboxPanelProps) {
  const texts = { ...defaultTexts, ...given };
  const { items, loading, hasMore, error, list } = useInboxPages({ limit });
  return (
    <section aria-label={texts.inbox} aria-busy={loading} {...section}>
      <button
        type="button"
        data-part="mark-all"
        disabled={!items.some((i) => i.state.read === null)}
        onClick={() => void list?.markAllRead()}
      >
        {texts.markAllRead}
      </button>
      <ul data-part="items">
        {items.map((item) => (
          <li key={item.id} data-part="item" data-unread={item.state.read === null || undefined}>
            {render ? render(item) : <Item item={item} />}{' '}
            {item.state.read === null && (
              <button
                type="button"
                data-part="mark-read"
                aria-label={`${texts.markRead}: ${item.title}`}
                onClick={() => void list?.markRead([item.id])}
              >
                {texts.markRead}
              </button>
            )}
          </li>
        ))}
      </ul>
      <p role="status" data-part="status">
        {error ? texts.failed : items.length > 0 ? '' : loading ? texts.loading : texts.empty}
      </p>
      {error && (
        <button type="button" data-part="again" onClick={() => void list?.reload()}>
          {texts.again}
        </button>
      )}
      {hasMore && (
        <button type="button" data-part="more" disabled={loading} onClick={() => void list?.more()}>
          {texts.more}
        </button>
      )}
    </section>
  );
}

export type InboxPanelProps = Omit<React.ComponentProps<'section'>, 'children'> & {
  /** Items of a page. */
  limit?: number;
  texts?: Partial<Texts>;
  /** Renders an item; by default its title and time. */
  render?: (item: InboxItem) => ReactNode;
};

function Item({ item }: { item: InboxItem }) {
  return (
    <>
      {item.link ? <a href={item.link}>{item.title}</a> : <span>{item.title}</span>} {item.body && <p>{item.body}</p>}
      <time dateTime={item.time}>{new Date(item.time).toLocaleString()}</time>
    </>
  );
}

/** The user's mutes, each with a button that ends it. */
export function MutePanel({
  texts: given,
  ...section
}: Omit<React.ComponentProps<'section'>, 'children'> & { texts?: Partial<Texts> }) {
  const texts = { ...defaultTexts, ...given };
  const live = useLive();
  const [mutes, setMutes] = useState<readonly { type?: string; subject?: string }[] | null>(null);
  useEffect(() => {
    let isOver = false;
    live?.inbox.mutes().then(
      (found) => isOver || setMutes(found),
      () => isOver || setMutes([]),
    );
    return () => {
      isOver = true;
    };
  }, [live]);
  const unmute = async (mute: { type?: string; subject?: string }) => {
    if (!live) return;
    await live.inbox.unmute(mute.type === undefined ? { subject: mute.subject ?? '' } : { type: mute.type });
    setMutes(await live.inbox.mutes());
  };
  return (
    <section aria-label={texts.mutes} {...section}>
      <ul data-part="mutes">
        {mutes?.map((mute) => (
          <li key={`${mute.type ?? ''} ${mute.subject ?? ''}`}>
            <span>{mute.type ?? mute.subject}</span>{' '}
            <button
              type="button"
              aria-label={`${texts.unmute}: ${mute.type ?? mute.subject}`}
              onClick={() => void unmute(mute)}
            >
              {texts.unmute}
            </button>
          </li>
        ))}
      </ul>
      <p role="status">{mutes === null ? texts.loading : mutes.length === 0 ? texts.noMutes : ''}</p>
    </section>
  );
}
