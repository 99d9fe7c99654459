import { defineComponent, h, type PropType, shallowRef, type VNode, watch } from 'vue';
import type { InboxItem } from '../inbox.js';
import type { Live } from '../live.js';
import { BellPiece, bellName } from '../pieces/bell.js';
import { ChoicesPiece } from '../pieces/choices.js';
import { type ChoicesTexts, choicesTexts } from '../pieces/choices-texts.js';
import { bellIcon } from '../pieces/icons.js';
import { type InboxLook, InboxPiece } from '../pieces/inbox.js';
import { MutesPiece } from '../pieces/mutes.js';
import { type Inside, Own, type Part, type Piece } from '../pieces/part.js';
import { defaultTexts, type Texts } from '../pieces/texts.js';
import { ToastsPiece } from '../pieces/toasts.js';
import { useLive, useUnreadTotal } from './composables.js';

/** A part as Vue's own. */
function render({ tag, name, key, props, inside }: Part): VNode {
  const all: Record<string, unknown> = name ? { 'data-part': name } : {};
  for (const [attribute, value] of Object.entries(props))
    all[attribute.startsWith('on') ? `on${attribute[2]?.toUpperCase()}${attribute.slice(3)}` : attribute] = value;
  if (key !== undefined) all.key = key;
  return h(tag, all, inside.map(one));
}

const one = (inside: Inside): VNode | string =>
  typeof inside === 'string' ? inside : inside instanceof Own ? (inside.content as VNode) : render(inside);

/** A piece for the connection there is, and how often it has changed. */
function usePiece<P extends Piece>(make: (live: Live | null) => P): () => P {
  const live = useLive();
  const piece = shallowRef<P>(make(null));
  const version = shallowRef(0);
  watch(
    live,
    (now, _, ended) => {
      const made = make(now);
      piece.value = made;
      const stop = made.subscribe(() => {
        version.value++;
      });
      ended(() => {
        stop();
        made.close();
      });
    },
    { immediate: true },
  );
  return () => {
    void version.value; // what is shown depends on it
    return piece.value;
  };
}

const textsProp = Object as PropType<Partial<Texts>>;
const all = (texts: Partial<Texts> | undefined): Texts => ({ ...defaultTexts, ...texts });

/** A button with the exact unread count, shown and announced; the default slot takes the icon's place. `InboxBell` opens the inbox besides. */
export const UnreadBell = defineComponent({
  name: 'UnreadBell',
  props: { texts: textsProp },
  setup(props, { slots }) {
    const unread = useUnreadTotal();
    return () =>
      h(
        'button',
        {
          type: 'button',
          'data-part': 'button',
          'aria-label': bellName(all(props.texts), unread.value),
          'data-unread': unread.value ?? '',
        },
        [
          slots.default?.() ?? render(bellIcon),
          unread.value ? h('span', { 'data-part': 'count', 'aria-hidden': 'true' }, `${unread.value}`) : null,
        ],
      );
  },
});

const inboxProps = {
  /** Items of a page. */
  limit: Number,
  texts: textsProp,
  /** Hears that an item's link is followed, which marks it read. */
  onFollow: Function as PropType<(item: InboxItem, event: Event) => unknown>,
};
interface InboxSlots {
  item?: ((props: { item: InboxItem }) => unknown) | undefined;
  choices?: (() => unknown) | undefined;
}

const look = (
  props: { texts?: Partial<Texts> | undefined; onFollow?: InboxLook['follow'] | undefined },
  slots: InboxSlots,
): InboxLook => ({
  texts: all(props.texts),
  follow: props.onFollow,
  render: slots.item && ((item) => slots.item?.({ item })),
  choices: slots.choices,
});

/** A bell with the unread count, from which the inbox opens. Slots: `icon`, `item` (`{ item }`), `choices` (such as `<ChoicesPanel />`). */
export const InboxBell = defineComponent({
  name: 'InboxBell',
  props: inboxProps,
  setup(props, { slots }) {
    const piece = usePiece((live) => new BellPiece(live, { limit: props.limit }));
    return () => render(piece().show({ ...look(props, slots), icon: slots.icon }));
  },
});

/** The user's notifications with their acts. Slots: `item` (`{ item }`), `choices`. */
export const InboxPanel = defineComponent({
  name: 'InboxPanel',
  props: inboxProps,
  setup(props, { slots }) {
    const piece = usePiece((live) => new InboxPiece(live, { limit: props.limit ?? 20 }));
    return () => render(piece().show(look(props, slots)));
  },
});

/** What the user is told of, and when devices are quiet. */
export const ChoicesPanel = defineComponent({
  name: 'ChoicesPanel',
  props: { texts: Object as PropType<Partial<ChoicesTexts>> },
  setup(props) {
    const piece = usePiece((live) => new ChoicesPiece(live));
    return () => render(piece().show({ texts: { ...choicesTexts, ...props.texts } }));
  },
});

/** The user's mutes, each with a button that ends it. */
export const MutePanel = defineComponent({
  name: 'MutePanel',
  props: { texts: textsProp },
  setup(props) {
    const piece = usePiece((live) => new MutesPiece(live));
    return () => render(piece().show({ texts: all(props.texts) }));
  },
});

/** Shows new notifications for some seconds each while the inbox is closed. Respects quiet hours. */
export const InboxToasts = defineComponent({
  name: 'InboxToasts',
  props: { seconds: { type: Number, default: 8 }, type: { type: String, default: '*' }, texts: textsProp },
  setup(props) {
    const piece = usePiece((live) => new ToastsPiece(live, { forMs: props.seconds * 1000, type: props.type }));
    return () => render(piece().show({ texts: all(props.texts) }));
  },
});
