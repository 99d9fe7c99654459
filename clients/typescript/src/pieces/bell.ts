import type { Live } from '../live.js';
import { bellIcon } from './icons.js';
import { type InboxLook, InboxPiece } from './inbox.js';
import { type Inside, Own, type Part, Piece, part } from './part.js';
import { placeBy } from './popover.js';
import { fillIn, type Texts } from './texts.js';

/** What a bell is called, for those who don't see it. */
export const bellName = (texts: Texts, unread: number | null | undefined): string =>
  fillIn(texts.bell, { unread: unread ?? texts.unknown });

/** Otherwise what opens is hidden and shown in its place. */
const canFloat = (): boolean => 'popover' in (globalThis.HTMLElement?.prototype ?? {});

/** Whose inbox opens in which popover. */
const owners = new WeakMap<HTMLElement, BellPiece>();

/** A bell with the exact number of unread notifications, from which the inbox opens. */
export class BellPiece extends Piece {
  readonly #live: Live | null;
  readonly #limit: number | undefined;
  #inbox: InboxPiece | null = null;
  #stopPlacing: (() => void) | undefined;

  /** @param live - Null before there is a connection. */
  constructor(live: Live | null, options: { limit?: number | undefined } = {}) {
    super();
    this.#live = live;
    this.#limit = options.limit;
    if (!live) return;
    this.until(
      live.totals.subscribe(this.changed),
      // It is shown, as a count and in the inbox: nobody needs to be told that nothing handles it.
      live.otherwise(() => undefined),
      () => this.#close(),
    );
  }

  /** The inbox is open. */
  get isOpen(): boolean {
    return this.#inbox !== null;
  }

  show(look: InboxLook & { hasInbox?: boolean; icon?: () => unknown }): Part {
    const { hasInbox = true } = look;
    const unread = this.#live?.totals.value?.unread;
    const icon: Inside = look.icon ? new Own(look.icon()) : bellIcon;
    return part(
      'span',
      'bell',
      { 'data-unread': unread ?? '' },
      part(
        'button',
        'button',
        {
          type: 'button',
          'aria-label': bellName(look.texts, unread),
          'aria-expanded': hasInbox ? `${this.isOpen}` : undefined,
          onclick: hasInbox ? (event) => this.#pressed(event.currentTarget as HTMLButtonElement) : undefined,
        },
        icon,
        unread ? part('span', 'count', { 'aria-hidden': 'true' }, `${unread}`) : null,
      ),
      hasInbox &&
        part('div', 'inbox', { popover: 'auto', hidden: !canFloat() && !this.isOpen }, this.#inbox?.show(look)),
    );
  }

  /** The page's popover opens and closes by itself; what it holds follows. */
  #pressed(button: HTMLButtonElement): void {
    const panel = button.nextElementSibling as HTMLElement;
    if (!canFloat()) {
      if (this.isOpen) this.#close();
      else this.#open();
      return;
    }
    owners.set(panel, this); // the one before may have been another connection's
    if (button.popoverTargetElement === panel) return;
    button.popoverTargetElement = panel;
    panel.addEventListener('toggle', (event) => {
      const owner = owners.get(panel) as BellPiece;
      if ((event as ToggleEvent).newState === 'open') owner.#opened(() => placeBy(button, panel));
      else owner.#close();
    });
  }

  #opened(place: () => void): void {
    this.#open();
    place();
    globalThis.addEventListener('resize', place);
    this.#stopPlacing = () => globalThis.removeEventListener('resize', place);
  }

  #open(): void {
    const inbox = new InboxPiece(this.#live, { limit: this.#limit ?? 20 });
    inbox.subscribe(this.changed);
    this.#inbox = inbox;
    this.changed();
  }

  #close(): void {
    this.#stopPlacing?.();
    this.#stopPlacing = undefined;
    this.#inbox?.close();
    this.#inbox = null;
    this.changed();
  }
}
