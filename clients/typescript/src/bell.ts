import { InboxList } from './list.js';
import { connect, type Live } from './live.js';
import type { LiveOptions } from './options.js';
import { tokenFrom } from './token.js';

// Without a page (where a server renders) it can be imported all the same.
const Base = globalThis.HTMLElement ?? (class {} as typeof HTMLElement);

const icon =
  '<svg part="icon" width="1.2em" height="1.2em" viewBox="0 0 24 24" fill="none" stroke="currentColor" stroke-width="2" aria-hidden="true"><path d="M6 16V11a6 6 0 0 1 12 0v5l2 2H4zM10 20a2 2 0 0 0 4 0" stroke-linejoin="round"/></svg>';

/** `<rovett-bell url="…" token-from="/my-token" inbox>`: a bell with the number of unread notifications, for pages without React;
 * with `inbox`, pressing it shows and hides the list. Unstyled: its parts are `button`, `icon`, `count`, `inbox`, `item`, `title`
 * (with `unread`), `time`, `mark-read`, `mark-all`, `more`, `empty`, `error`, `again`; the default slot takes the icon's place. `data-phase`
 * says how the connection stands: `live`, `offline`, `refused` …
 *
 * `token-from` is an address of yours that answers the user's token as text. Set `token` (a function), `connect` (`connectShared`) or
 * `live` (a connection of your own) from a script instead. Texts: the attributes `label` (with `{unread}`), `empty-text`, `mark-all-text`,
 * `mark-read-text`, `more-text`, `error-text`, `refused-text`, `again-text`. */
export class RovettBell extends Base {
  /** Gives a token of the user; before the element is in the page. */
  declare token?: () => string | Promise<string>;
  /** What connects; otherwise `connect`. */
  declare connect?: (options: LiveOptions) => Live;
  #live: Live | undefined;
  #isOwn = false;
  #list: InboxList | undefined;
  #stop: (() => void)[] = [];
  readonly #button: HTMLButtonElement;
  readonly #count: HTMLElement;
  readonly #inbox: HTMLElement;

  constructor() {
    super();
    this.#count = document.createElement('span');
    this.#inbox = document.createElement('section');
    const root = this.attachShadow({ mode: 'open' });
    root.innerHTML = `<button type="button" part="button"><slot>${icon}</slot></button>`;
    this.#button = root.firstElementChild as HTMLButtonElement;
    this.#count.setAttribute('part', 'count');
    this.#count.ariaHidden = 'true';
    this.#button.append(this.#count);
    this.#inbox.setAttribute('part', 'inbox');
    this.#inbox.hidden = true;
    root.append(this.#inbox);
    this.#button.onclick = () => this.hasAttribute('inbox') && this.#toggle();
  }

  /** The connection: its own, or the one that it was given. */
  get live(): Live | undefined {
    return this.#live;
  }

  set live(live: Live | undefined) {
    this.#end();
    this.#live = live;
    if (this.isConnected) this.#begin();
  }

  connectedCallback(): void {
    // Set before this class was known, it lies in front of the accessor.
    if (Object.hasOwn(this, 'live')) {
      const { live } = this;
      Reflect.deleteProperty(this, 'live');
      this.#live = live;
    }
    if (!this.#live) {
      const url = this.getAttribute('url') ?? '';
      const from = this.getAttribute('token-from') ?? '';
      const device = this.getAttribute('device');
      const token = this.token ?? tokenFrom(from);
      this.#live = (this.connect ?? connect)({ url, token, ...(device ? { device } : {}) });
      this.#isOwn = true;
    }
    this.#begin();
  }

  disconnectedCallback(): void {
    this.#end();
  }

  #begin(): void {
    const live = this.#live;
    if (!live || this.#stop.length > 0) return;
    this.#stop.push(
      live.totals.subscribe(() => this.#show()),
      live.state.subscribe(() => this.#show()),
    );
    this.#show();
  }

  #end(): void {
    for (const stop of this.#stop) stop();
    this.#stop = [];
    this.#list?.close();
    this.#list = undefined;
    if (this.#isOwn) void this.#live?.close();
    if (this.#isOwn) this.#live = undefined;
    this.#isOwn = false;
  }

  #text(name: string, otherwise: string): string {
    return this.getAttribute(name) ?? otherwise;
  }

  #show(): void {
    const unread = this.#live?.totals.value?.unread;
    this.#count.textContent = unread ? (unread > 99 ? '99+' : `${unread}`) : '';
    this.#button.ariaLabel = this.#text('label', 'Notifications, {unread} unread').replace(
      '{unread}',
      `${unread ?? 'unknown'}`,
    );
    this.#button.ariaExpanded = this.hasAttribute('inbox') ? `${!this.#inbox.hidden}` : null;
    this.dataset.unread = `${unread ?? ''}`;
    const phase = this.#live?.state.value.phase ?? '';
    if (phase === this.dataset.phase) return;
    this.dataset.phase = phase;
    if (this.#list) this.#fill(this.#list);
  }

  #toggle(): void {
    this.#inbox.hidden = !this.#inbox.hidden;
    if (!this.#list && this.#live) {
      const list = new InboxList(this.#live, { limit: 20 });
      this.#list = list;
      this.#stop.push(list.subscribe(() => this.#fill(list)));
      this.#fill(list);
    }
    this.#show();
  }

  #fill(list: InboxList): void {
    const { items, hasMore, loading, error } = list.value;
    const isRefused = this.#live?.state.value.phase === 'refused';
    this.#inbox.setAttribute('aria-busy', `${loading}`);
    const all = this.#part('button', 'mark-all', this.#text('mark-all-text', 'Mark all read'), () =>
      list.markAllRead(),
    );
    all.disabled = !items.some((i) => i.state.read === null);
    const lines = items.map((item) => {
      const line = this.#part('div', 'item', '');
      const title = this.#part(
        item.link ? 'a' : 'span',
        `title${item.state.read === null ? ' unread' : ''}`,
        item.title,
      );
      if (item.link) (title as HTMLAnchorElement).href = item.link;
      const time = this.#part('time', 'time', new Date(item.time).toLocaleString());
      time.dateTime = item.time;
      line.append(title, ' ', time);
      if (item.state.read === null) {
        const mark = this.#part('button', 'mark-read', this.#text('mark-read-text', 'Mark read'), () =>
          list.markRead([item.id]),
        );
        mark.ariaLabel = `${mark.textContent}: ${item.title}`;
        line.append(' ', mark);
      }
      return line;
    });
    this.#inbox.replaceChildren(all, ...lines);
    if (isRefused || error) {
      const told = this.#part(
        'p',
        'error',
        isRefused
          ? this.#text('refused-text', 'The sign-in has ended.')
          : this.#text('error-text', 'The notifications can’t be read now.'),
      );
      told.role = 'alert';
      const again = () => {
        if (this.#live?.state.value.phase !== 'live') this.#live?.reconnect();
        return list.reload();
      };
      this.#inbox.append(told, this.#part('button', 'again', this.#text('again-text', 'Try again'), again));
    } else if (items.length === 0 && !loading)
      this.#inbox.append(this.#part('p', 'empty', this.#text('empty-text', 'No notifications yet.')));
    if (hasMore)
      this.#inbox.append(this.#part('button', 'more', this.#text('more-text', 'Load older'), () => list.more()));
  }

  #part<K extends keyof HTMLElementTagNameMap>(
    tag: K,
    part: string,
    text: string,
    press?: () => unknown,
  ): HTMLElementTagNameMap[K] {
    const made = document.createElement(tag);
    made.setAttribute('part', part);
    made.textContent = text;
    if (press) made.onclick = () => void press();
    return made;
  }
}

const elements = globalThis.customElements as CustomElementRegistry | undefined;
if (elements && !elements.get('rovett-bell')) elements.define('rovett-bell', RovettBell);
