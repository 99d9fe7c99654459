import {
  type ComputedRef,
  computed,
  defineComponent,
  type InjectionKey,
  inject,
  type MaybeRefOrGetter,
  onScopeDispose,
  type PropType,
  provide,
  type ShallowRef,
  shallowRef,
  toValue,
  watch,
} from 'vue';
import { Choices } from '../choices.js';
import { InboxList, type InboxView } from '../list.js';
import { connect, type Live } from '../live.js';
import type { Notification, Said, Totals } from '../messages.js';
import type { LiveOptions, LiveState } from '../options.js';
import type { PresenceView } from '../presence.js';
import type { Readable } from '../value.js';

const place: InjectionKey<Readonly<ShallowRef<Live | null>>> = Symbol('rovett');

/** Connects a user for the component and all that is within it, until it is unmounted. Where a server renders, nothing is connected.
 * @param options - Another user needs another component: give it the user's id as `key`. */
export function provideLive(
  options: LiveOptions & {
    /** What connects: `connectShared` of `rovett/shared` has all tabs share one connection. */
    connect?: (options: LiveOptions) => Live;
  },
): Readonly<ShallowRef<Live | null>> {
  const { connect: connecting = connect, ...how } = options;
  const live = shallowRef<Live | null>(typeof window === 'undefined' ? null : connecting(how));
  provide(place, live);
  onScopeDispose(() => {
    const { value } = live;
    live.value = null;
    void value?.close();
  });
  return live;
}

/** `provideLive` as a component. */
export const RovettProvider = defineComponent({
  name: 'RovettProvider',
  props: {
    url: { type: String, required: true },
    token: { type: Function as PropType<LiveOptions['token']>, required: true },
    device: String,
    label: String,
    connect: Function as PropType<(options: LiveOptions) => Live>,
    options: Object as PropType<Partial<LiveOptions>>,
  },
  setup(props, { slots }) {
    const { url, device, label, connect: connecting } = props;
    provideLive({
      ...props.options,
      url,
      token: () => props.token(),
      ...(device && { device }),
      ...(label && { label }),
      ...(connecting && { connect: connecting }),
    });
    return () => slots.default?.();
  },
});

/** The connection; null where a server renders, and once it has ended. */
export function useLive(): Readonly<ShallowRef<Live | null>> {
  const live = inject(place, null);
  if (!live) throw new Error('there is no connection here: call provideLive, or use <RovettProvider>, further up');
  return live;
}

/** What a readable is now, for as long as the component lives. */
function follow<T>(get: () => Readable<T> | null | undefined, before: T): Readonly<ShallowRef<T>> {
  const value = shallowRef(before);
  watch(
    get,
    (readable, _, ended) => {
      value.value = readable ? readable.value : before;
      if (!readable) return;
      ended(
        readable.subscribe(() => {
          value.value = readable.value;
        }),
      );
    },
    { immediate: true },
  );
  return value;
}

/** What is made for the connection and closed with it, or with the component. */
export function useMade<T extends { close(): void }>(make: (live: Live) => T): Readonly<ShallowRef<T | null>> {
  const live = useLive();
  const made: ShallowRef<T | null> = shallowRef(null);
  watch(
    live,
    (now, _, ended) => {
      made.value = now && make(now);
      ended(() => {
        made.value?.close();
        made.value = null;
      });
    },
    { immediate: true },
  );
  return made;
}

/** The user's totals; null until they are known. */
export function useTotals(): Readonly<ShallowRef<Totals | null>> {
  const live = useLive();
  return follow(() => live.value?.totals, null);
}

/** How many notifications are unread; null until it is known. */
export function useUnreadTotal(): ComputedRef<number | null> {
  const totals = useTotals();
  return computed(() => totals.value?.unread ?? null);
}

const notYet: LiveState = { phase: 'connecting', transport: null, tried: [], reconnects: 0 };

/** How the connection stands. */
export function useLiveState(): Readonly<ShallowRef<LiveState>> {
  const live = useLive();
  return follow(() => live.value?.state, notYet);
}

/** Calls a handler for each notification of a type (exact, ending in `*`, or `*`). */
export function useNotificationHandler<D = unknown>(
  type: string,
  handler: (notification: Notification<D>) => unknown,
): void {
  useMade((live) => ({ close: live.on<D>(type, handler) }));
}

/** Subscribes to a topic for as long as the component lives. What comes is handled by `useNotificationHandler`. */
export function useTopic<D = unknown>(
  topic: MaybeRefOrGetter<string>,
  onSaid?: (said: Said<D>) => void,
): { error: Readonly<ShallowRef<Error | null>>; say: (data: unknown) => Promise<void> } {
  const live = useLive();
  const error = shallowRef<Error | null>(null);
  watch(
    [live, () => toValue(topic)] as const,
    ([now, name], _, ended) => {
      if (!now) return;
      let isOver = false;
      error.value = null;
      now.subscribe(name).catch((why) => {
        if (!isOver) error.value = why;
      });
      const stop = now.onSaid<D>((said) => said.to === `topic:${name}` && onSaid?.(said));
      ended(() => {
        isOver = true;
        stop();
        now.unsubscribe(name).catch(() => undefined);
      });
    },
    { immediate: true },
  );
  const say = (data: unknown) =>
    live.value ? live.value.say(toValue(topic), data) : Promise.reject(new Error('not connected'));
  return { error, say };
}

const unknown: PresenceView = { count: null, people: null };

/** Who is on a topic (`topic:berth/3`) or role (`role:engineer`) now, for as long as the component lives. */
export function usePresence(address: MaybeRefOrGetter<string>): Readonly<ShallowRef<PresenceView>> {
  const live = useLive();
  const here = shallowRef<(Readable<PresenceView> & { close(): void }) | null>(null);
  watch(
    [live, () => toValue(address)] as const,
    ([now, name], _, ended) => {
      here.value = now?.presence(name) ?? null;
      ended(() => here.value?.close());
    },
    { immediate: true },
  );
  return follow(() => here.value, unknown);
}

const empty: InboxView = { items: [], loading: true, hasMore: false };

/** The inbox, newest first: older pages on request, new notifications on top. */
export function useInboxPages(options: { state?: 'all' | 'unread' | 'read'; limit?: number } = {}): {
  view: Readonly<ShallowRef<InboxView>>;
  list: Readonly<ShallowRef<InboxList | null>>;
} {
  const list = useMade((live) => new InboxList(live, options));
  return { view: follow(() => list.value, empty), list };
}

/** The user's choices; null before there is a connection. `view` is null until they are known. */
export function useChoices() {
  const choices = useMade((live) => new Choices(live));
  return { choices, view: follow(() => choices.value, null) };
}
