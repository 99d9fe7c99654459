import type { Live } from '../live.js';
import { type Notification, RovettError, type Said } from '../messages.js';
import { safe } from './links.js';
import { type Part, Piece, part } from './part.js';
import { ago, everyHalfMinute, exact } from './times.js';

/** One that came on a topic, or something that was said there. */
export type Heard = Notification | Said;

export interface TopicEvents {
  notification(notification: Notification): void;
  said(said: Said): void;
  refused(error: RovettError): void;
}

/** What comes on a topic from now on, newest first, and how many are on it. */
export class TopicPiece extends Piece {
  #heard: readonly { at: number; what: Heard }[] = [];
  #refused: string | null = null;
  #count: number | null = null;
  #numbers = 0;

  constructor(live: Live, topic: string, options: { limit: number; presence: boolean }, events: TopicEvents) {
    super();
    const address = `topic:${topic}`;
    const heard = (what: Heard) => {
      this.#heard = [{ at: this.#numbers++, what }, ...this.#heard].slice(0, options.limit);
      this.changed();
    };
    let isAsked = false;
    // Only once connected: a refusal goes to whoever asked over the connection.
    const ask = () => {
      if (isAsked || !live.session) return;
      isAsked = true;
      live.subscribe(topic).catch((error) => {
        if (!(error instanceof RovettError)) return; // the connection was lost; it is asked for again with the next one
        this.#refused = error.message;
        events.refused(error);
        this.changed();
      });
    };
    ask();
    this.until(
      live.state.subscribe(ask),
      live.on('*', (notification) => {
        if (notification.to !== address) return;
        heard(notification);
        events.notification(notification);
      }),
      live.onSaid((said) => {
        if (said.to !== address) return;
        heard(said);
        events.said(said);
      }),
      live.onChange(({ kind, id }) => {
        if (!['withdrawn', 'expired', 'replaced'].includes(kind)) return;
        this.#heard = this.#heard.filter(({ what }) => what.kind !== 'notification' || what.id !== id);
        this.changed();
      }),
      everyHalfMinute(this.changed),
      () => isAsked && void live.unsubscribe(topic).catch(() => undefined),
    );
    if (options.presence) {
      const presence = live.presence(address);
      const counted = () => {
        this.#count = presence.value.count;
        this.changed();
      };
      this.until(presence.subscribe(counted), () => presence.close());
      counted();
    }
  }

  /** How many people are on it; null while that is unknown. */
  get count(): number | null {
    return this.#count;
  }

  get heard(): readonly { at: number; what: Heard }[] {
    return this.#heard;
  }

  show(label: string): Part {
    const items = this.#heard.map(({ at, what }) => part('li', 'item', { key: `${at}` }, ...lines(what)));
    return part(
      'section',
      'topic',
      { 'aria-label': label },
      part('ul', 'items', { 'aria-live': 'polite' }, ...items),
      this.error(),
    );
  }

  /** Why nothing comes, if that is so. */
  error(): Part | null {
    return this.#refused === null ? null : part('p', 'error', { role: 'alert' }, this.#refused);
  }
}

function lines(what: Heard): Part[] {
  const { time } = what;
  const when = part('time', 'time', { datetime: time, title: exact(time) }, ago(time));
  if (what.kind === 'said') {
    const data = typeof what.data === 'string' ? what.data : JSON.stringify(what.data);
    return [part('p', 'title', {}, `${what.displayName ?? what.from}: ${data}`), part('p', 'meta', {}, when)];
  }
  const href = safe(what.link);
  return [
    part('p', 'title', {}, href ? part('a', 'link', { href }, what.title) : what.title),
    ...(what.body ? [part('p', 'body', {}, what.body)] : []),
    part('p', 'meta', {}, when),
  ];
}
