'use client';

import { type ComponentProps, type ReactNode, useMemo } from 'react';
import type { InboxItem } from '../inbox.js';
import { BellPiece, bellName } from '../pieces/bell.js';
import { bellIcon } from '../pieces/icons.js';
import { InboxPiece } from '../pieces/inbox.js';
import { MutesPiece } from '../pieces/mutes.js';
import { defaultTexts, type Texts } from '../pieces/texts.js';
import { ToastsPiece } from '../pieces/toasts.js';
import { useUnreadTotal } from './hooks.js';
import { render, usePiece } from './render.js';

type Section = Omit<ComponentProps<'section'>, 'children'>;

const useTexts = (given: Partial<Texts> | undefined): Texts => useMemo(() => ({ ...defaultTexts, ...given }), [given]);

export type UnreadBellProps = Omit<ComponentProps<'button'>, 'type'> & {
  /** What it is called, for those who don't see it. */
  label?: (unread: number | null) => string;
  /** More are shown as `99+`; otherwise the number is exact. */
  most?: number;
};

/** A button with the unread count, shown and announced. `InboxBell` opens the inbox besides. */
export function UnreadBell({ label, most = Number.POSITIVE_INFINITY, children, ...button }: UnreadBellProps) {
  const unread = useUnreadTotal();
  const name = label?.(unread) ?? bellName(defaultTexts, unread);
  return (
    <button type="button" data-part="button" aria-label={name} data-unread={unread ?? ''} {...button}>
      {children ?? render(bellIcon)}
      {unread ? (
        <span data-part="count" aria-hidden="true">
          {unread > most ? `${most}+` : unread}
        </span>
      ) : null}
    </button>
  );
}

export type InboxProps = {
  /** Items of a page. */
  limit?: number;
  texts?: Partial<Texts>;
  /** Renders an item; by default its title, body and time. */
  render?: (item: InboxItem) => ReactNode;
  /** Hears that an item's link is followed, which marks it read; `event.preventDefault()` leaves the page where it is. */
  onFollow?: (item: InboxItem, event: Event) => unknown;
  /** Opens in place of the items, by a button at the foot: `<ChoicesPanel />`. */
  choices?: ReactNode;
};

/** How it is shown, from what a component was given. */
const look = ({ render: item, onFollow, choices }: InboxProps, texts: Texts) => ({
  texts,
  render: item,
  follow: onFollow,
  choices: choices === undefined ? undefined : () => choices,
});

/** A bell with the unread count, from which the inbox opens. */
export function InboxBell({ icon, ...props }: InboxProps & { icon?: ReactNode }) {
  const { limit } = props;
  const piece = usePiece((live) => new BellPiece(live, { limit }), limit);
  const texts = useTexts(props.texts);
  return render(piece.show({ ...look(props, texts), icon: icon === undefined ? undefined : () => icon }));
}

export type InboxPanelProps = Section & InboxProps;

/** The user's notifications with their acts. */
export function InboxPanel({ limit = 20, texts: given, render: item, onFollow, choices, ...section }: InboxPanelProps) {
  const piece = usePiece((live) => new InboxPiece(live, { limit }), limit);
  const texts = useTexts(given);
  return render(piece.show(look({ render: item, onFollow, choices }, texts)), section);
}

/** The user's mutes, each with a button that ends it. */
export function MutePanel({ texts: given, ...section }: Section & { texts?: Partial<Texts> }) {
  const piece = usePiece((live) => new MutesPiece(live));
  return render(piece.show({ texts: useTexts(given) }), section);
}

/** Shows new notifications for some seconds each while the inbox is closed. Respects quiet hours. */
export function InboxToasts({
  seconds = 8,
  type = '*',
  texts: given,
}: {
  seconds?: number;
  /** Which notifications: exact, ending in `*`, or `*`. */
  type?: string;
  texts?: Partial<Texts>;
}) {
  const piece = usePiece((live) => new ToastsPiece(live, { forMs: seconds * 1000, type }), seconds, type);
  return render(piece.show({ texts: useTexts(given) }));
}
