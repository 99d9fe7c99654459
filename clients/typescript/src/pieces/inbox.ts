import type { InboxItem } from '../inbox.js';
import { InboxList, type InboxView } from '../list.js';
import type { Live } from '../live.js';
import { RovettError, type Transport } from '../messages.js';
import type { LiveState } from '../options.js';
import { againIcon, behindIcon, lampIcon, refusedIcon, silentIcon, takenIcon, tickIcon } from './icons.js';
import { safe } from './links.js';
import { button, type Inside, Own, type Part, Piece, part } from './part.js';
import { inboxSeen } from './seen.js';
import { fillIn, type Texts } from './texts.js';
import { ago, clock, everyHalfMinute, exact } from './times.js';

/** How an inbox is shown. */
export interface InboxLook {
  texts: Texts;
  /** The page's own content of an item, in place of its title, body and time. */
  render?: ((item: InboxItem) => unknown) | undefined;
  /** Hears that a link was followed. */
  follow?: ((item: InboxItem, event: Event) => unknown) | undefined;
  /** Shows the user's choices in place of the items. */
  choices?: (() => unknown) | undefined;
}

const names: Record<Transport, string> = {
  websocket: 'WebSocket',
  sse: 'server-sent events',
  'long-poll': 'long poll',
};
const nothing: InboxView = { items: [], loading: true, hasMore: false };
const before: LiveState = { phase: 'connecting', transport: null, tried: [], reconnects: 0 };

/** The user's notifications with their acts, and how the connection stands. */
export class InboxPiece extends Piece {
  readonly #live: Live | null;
  readonly #list: InboxList | null;
  #awaySince = 0;
  /** While it is scrolled down, what comes above this one waits. */
  #top: string | null = null;
  #note = '';
  #shows: 'items' | 'choices' = 'items';

  /** @param live - Null before there is a connection. */
  constructor(live: Live | null, options: { limit?: number } = {}) {
    super();
    this.#live = live;
    this.#list = live && new InboxList(live, { limit: options.limit ?? 20 });
    if (!live || !this.#list) return;
    const list = this.#list;
    this.until(
      list.subscribe(this.changed),
      live.totals.subscribe(this.changed),
      live.state.subscribe(() => this.#stateChanged()),
      everyHalfMinute(this.changed),
      inboxSeen(live),
      () => list.close(),
    );
    this.#stateChanged();
  }

  #stateChanged(): void {
    const away = this.#live?.state.value.phase === 'offline' || this.#live?.state.value.phase === 'connecting';
    if (!away) this.#awaySince = 0;
    else this.#awaySince ||= Date.now();
    this.changed();
  }

  show(look: InboxLook): Part {
    const { texts } = look;
    const view = this.#list?.value ?? nothing;
    const unread = this.#live?.totals.value?.unread;
    const choosing = this.#shows === 'choices' && look.choices;
    return part(
      'section',
      'panel',
      { 'aria-label': texts.inbox, 'aria-busy': `${view.loading}` },
      part(
        'header',
        'head',
        {},
        part('h2', 'heading', {}, choosing ? texts.choices : texts.inbox),
        !choosing && unread ? part('span', 'unread-count', {}, fillIn(texts.unread, { unread })) : null,
        choosing
          ? button('back', texts.back, () => this.#turn('items'))
          : button('mark-all', texts.markAllRead, () => this.#list?.markAllRead(), {
              disabled: !unread && !view.items.some((i) => i.state.read === null),
            }),
      ),
      ...(choosing ? [new Own(look.choices?.())] : this.#items(view, look)),
      this.#foot(look),
    );
  }

  #turn(to: 'items' | 'choices'): void {
    this.#shows = to;
    this.#top = null; // the list begins at its top again
    this.changed();
  }

  #items({ items, loading, hasMore, error }: InboxView, look: InboxLook): Inside[] {
    const { texts } = look;
    const isRefused = this.#live?.state.value.phase === 'refused';
    const from = this.#top ? items.findIndex((i) => i.id === this.#top) : 0;
    const held = Math.max(0, from);
    const shown: Inside[] = [];
    if (held > 0)
      shown.push(button('newer', fillIn(texts.newer, { count: held }), (event) => this.#upTo(event), { key: 'newer' }));
    shown.push(
      part(
        'ul',
        'items',
        { onscroll: (event) => this.#scrolled(event.target as Element), tabindex: items.length > 0 ? 0 : undefined },
        ...items.slice(held).map((item) => this.#item(item, look)),
      ),
    );
    if (isRefused || error)
      shown.push(
        part('p', 'error', { role: 'alert' }, isRefused ? texts.refused : texts.failed),
        button('again', texts.again, () => {
          if (this.#live?.state.value.phase !== 'live') this.#live?.reconnect();
          return this.#list?.reload();
        }),
      );
    else if (items.length === 0 && loading)
      shown.push(
        part('div', 'bars', { 'aria-hidden': 'true' }, ...['a', 'b', 'c'].map((key) => part('i', '', { key }))),
      );
    else if (items.length === 0) shown.push(part('p', 'empty', {}, texts.empty));
    shown.push(
      part(
        'p',
        'status',
        { role: 'status' },
        this.#note || (items.length === 0 && loading && !error ? texts.loading : ''),
      ),
    );
    if (hasMore) shown.push(button('more', texts.more, () => this.#list?.more(), { disabled: loading }));
    return shown;
  }

  #item(item: InboxItem, look: InboxLook): Part {
    const { texts } = look;
    const isUnread = item.state.read === null;
    const read = () => this.#list?.markRead([item.id]);
    return part(
      'li',
      isUnread ? 'item new' : 'item',
      { key: item.id, 'data-id': item.id, 'data-unread': isUnread ? 'true' : undefined },
      part('span', 'nail', { 'aria-hidden': 'true' }),
      part(
        'div',
        'text',
        {},
        ...(look.render ? [new Own(look.render(item))] : this.#words(item, isUnread, look)),
        item.takeable !== undefined && this.#taking(item, texts),
      ),
      isUnread
        ? button('mark mark-read', tickIcon, read, {
            'aria-label': `${texts.markRead}: ${item.title}`,
            title: texts.markRead,
          })
        : button('mark mark-unread', againIcon, () => this.#list?.markUnread([item.id]), {
            'aria-label': `${texts.markUnread}: ${item.title}`,
            title: texts.markUnread,
          }),
    );
  }

  #words(item: InboxItem, isUnread: boolean, look: InboxLook): Part[] {
    const href = safe(item.link);
    const follow = (event: Event) => {
      look.follow?.(item, event);
      if (isUnread) void this.#list?.markRead([item.id]);
    };
    const title = href
      ? part('a', 'link', { href, onclick: follow, onauxclick: follow }, item.title)
      : part('span', 'words', {}, item.title);
    return [
      part(
        'p',
        isUnread ? 'title unread' : 'title',
        {},
        title,
        isUnread && part('span', 'unseen', {}, ` (${look.texts.isUnread})`),
      ),
      ...(item.body ? [part('p', 'body', {}, item.body)] : []),
      part('p', 'meta', {}, part('time', 'time', { datetime: item.time, title: exact(item.time) }, ago(item.time))),
    ];
  }

  #taking(item: InboxItem, texts: Texts): Part {
    const act = (work: Promise<void> | undefined) => {
      this.#note = '';
      work?.catch((error) => {
        this.#note = error instanceof RovettError && error.status === 409 ? texts.tooLate : texts.failed;
        this.changed();
      });
    };
    return item.state.taken
      ? part(
          'p',
          'acts',
          {},
          part('span', 'taken', {}, takenIcon, ` ${texts.taken}`),
          button('release', texts.release, () => act(this.#live?.inbox.release(item.id)), {
            'aria-label': `${texts.release}: ${item.title}`,
          }),
        )
      : part(
          'p',
          'acts',
          {},
          button('take', texts.take, () => act(this.#live?.inbox.take(item.id)), {
            'aria-label': `${texts.take}: ${item.title}`,
          }),
        );
  }

  #foot({ texts, choices }: InboxLook): Part {
    const { phase, transport } = this.#live?.state.value ?? before;
    const [icon, words] =
      phase === 'live' && transport
        ? [lampIcon, fillIn(texts.live, { transport: names[transport] })]
        : phase === 'catching up'
          ? [behindIcon, texts.catchingUp]
          : phase === 'refused'
            ? [refusedIcon, texts.refused]
            : phase === 'connecting'
              ? [silentIcon, texts.connecting]
              : [silentIcon, fillIn(texts.offline, { time: clock(this.#awaySince || Date.now()) })];
    return part(
      'footer',
      'foot',
      { 'data-phase': phase, 'data-transport': transport },
      part('span', 'state', {}, icon, ` ${words}`),
      phase === 'offline' && button('now', texts.now, () => this.#live?.reconnect()),
      choices && this.#shows === 'items' && button('choices', texts.choices, () => this.#turn('choices')),
    );
  }

  #scrolled(list: Element): void {
    const isTop = list.scrollTop < 8;
    const top = isTop ? null : (this.#top ?? this.#list?.value.items[0]?.id ?? null);
    if (top === this.#top) return;
    this.#top = top;
    this.changed();
  }

  #upTo(event: Event): void {
    const panel = (event.target as Element).closest('[data-part~=panel]');
    panel?.querySelector('[data-part~=items]')?.scrollTo({ top: 0 });
    this.#top = null;
    this.changed();
  }
}
