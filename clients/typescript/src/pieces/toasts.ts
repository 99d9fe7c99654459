import { Choices } from '../choices.js';
import type { Live } from '../live.js';
import type { Change, Notification } from '../messages.js';
import { crossIcon } from './icons.js';
import { safe } from './links.js';
import { button, type Part, Piece, part } from './part.js';
import { isInboxSeen } from './seen.js';
import { fillIn, type Texts } from './texts.js';

const most = 3;

export interface ToastOptions {
  /** Milliseconds for which one is shown, unless it is pointed at or focused. */
  forMs?: number;
  /** Which notifications: exact, ending in `*`, or `*`. */
  type?: string;
}

/** Shows new notifications for some seconds each while the inbox is closed. Respects quiet hours and mutes; what was missed is not shown later. */
export class ToastsPiece extends Piece {
  readonly #live: Live | null;
  readonly #forMs: number;
  readonly #choices: Choices | undefined;
  #toasts: readonly Notification[] = [];
  /** Somebody points at one, or has focused one. */
  readonly #held = new Set<'pointer' | 'focus'>();
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(live: Live | null, { forMs = 8000, type = '*' }: ToastOptions = {}) {
    super();
    this.#live = live;
    this.#forMs = forMs;
    if (!live) return;
    const choices = new Choices(live);
    this.#choices = choices;
    this.until(
      live.on(type, (notification) => this.#came(notification)),
      live.onChange((change) => this.#changed(change)),
      () => choices.close(),
      () => clearTimeout(this.#timer),
    );
  }

  #came(notification: Notification): void {
    const live = this.#live;
    const { id, read, attempt = 1 } = notification;
    // What was caught up with is in the count already.
    if (live?.state.value.phase !== 'live' || read || attempt > 1 || isInboxSeen(live)) return;
    if (!this.#choices?.rings(notification) || this.#toasts.some((t) => t.id === id && id !== undefined)) return;
    this.#set([notification, ...this.#toasts]);
    this.#wait();
  }

  #changed({ kind, id, ids, all, upTo, subject, unreadAgain, by }: Change): void {
    if (kind === 'choices' || kind === 'gap' || unreadAgain || (kind === 'taken' && by === this.#live?.user)) return;
    const isMeant = (t: Notification) =>
      all ||
      upTo !== undefined ||
      (t.id !== undefined && (t.id === id || ids?.includes(t.id))) ||
      (subject !== undefined && t.subject === subject);
    this.#set(this.#toasts.filter((t) => !isMeant(t)));
  }

  #set(toasts: readonly Notification[]): void {
    if (toasts.length === this.#toasts.length && toasts[0] === this.#toasts[0]) return;
    this.#toasts = toasts;
    if (toasts.length === 0) this.#held.clear(); // nothing tells that the pointer has left what is gone
    this.changed();
  }

  /** The eldest goes first; nothing goes while somebody is at it. */
  #wait(): void {
    clearTimeout(this.#timer);
    if (this.#held.size > 0 || this.#toasts.length === 0) return;
    this.#timer = setTimeout(() => {
      this.#set(this.#toasts.length > most ? this.#toasts.slice(0, most) : this.#toasts.slice(0, -1));
      this.#wait();
    }, this.#forMs);
  }

  #hold(by: 'pointer' | 'focus', isHeld: boolean): void {
    if (isHeld) this.#held.add(by);
    else this.#held.delete(by);
    this.#wait();
  }

  show({ texts }: { texts: Texts }): Part {
    const others = this.#toasts.length - most;
    return part(
      'section',
      'toasts',
      {
        'aria-label': texts.toasts,
        'aria-live': 'polite',
        onpointerenter: () => this.#hold('pointer', true),
        onpointerleave: () => this.#hold('pointer', false),
        onfocusin: () => this.#hold('focus', true),
        onfocusout: () => this.#hold('focus', false),
      },
      ...this.#toasts.slice(0, most).map((toast, at) => this.#toast(toast, at, texts)),
      others > 0 && part('p', 'others', { key: 'others' }, fillIn(texts.others, { count: others })),
    );
  }

  #toast(toast: Notification, at: number, texts: Texts): Part {
    const { id, title, body, urgency } = toast;
    const href = safe(toast.link);
    const drop = () => this.#set(this.#toasts.filter((t) => t !== toast));
    const follow = () => {
      drop();
      if (id) this.#live?.inbox.markRead({ ids: [id] }).catch(() => undefined); // the inbox has it still
    };
    return part(
      'div',
      'toast',
      { key: id ?? `${toast.time} ${at}`, role: urgency === 'high' ? 'alert' : undefined, 'data-urgency': urgency },
      part('span', 'nail', { 'aria-hidden': 'true' }),
      part(
        'div',
        'text',
        {},
        part('p', 'title', {}, href ? part('a', 'link', { href, onclick: follow, onauxclick: follow }, title) : title),
        !!body && part('p', 'body', {}, body),
      ),
      button('dismiss', crossIcon, drop, { 'aria-label': `${texts.dismiss}: ${title}`, title: texts.dismiss }),
    );
  }
}
