import type { InboxItem, InboxPage } from './inbox.js';
import type { Live } from './live.js';
import type { Change, Notification } from './messages.js';
import { type Readable, Value } from './value.js';

/** A list of the inbox as it stands. */
export interface InboxView {
  items: readonly InboxItem[];
  /** A page is on its way. */
  loading: boolean;
  /** There are older ones. */
  hasMore: boolean;
  error?: Error;
}

/** The inbox as a list that stays right: pages as they are asked for, what comes live on top, what becomes of it carried through. */
export class InboxList implements Readable<InboxView> {
  readonly #view = new Value<InboxView>({ items: [], loading: true, hasMore: false });
  readonly #stop: (() => void)[];
  readonly #gone = new Set<string>();
  #next: (() => Promise<InboxPage>) | undefined;
  #loads = 0;

  constructor(
    readonly live: Live,
    readonly options: { state?: 'all' | 'unread' | 'read'; limit?: number } = {},
  ) {
    this.#stop = [
      live.on('*', (notification) => this.#came(notification)),
      live.onChange((change) => this.#changed(change)),
      // What a role brought or took is in the inbox, and in no message.
      live.channels.subscribe(() => void this.reload()),
    ];
    void this.reload();
  }

  get value(): InboxView {
    return this.#view.value;
  }

  subscribe = (listener: () => void): (() => void) => this.#view.subscribe(listener);

  #set(change: Partial<InboxView>): void {
    this.#view.set({ ...this.#view.value, ...change });
  }

  #edit(id: string, change: (item: InboxItem) => InboxItem | null): void {
    const items = this.value.items.flatMap((item) => (item.id === id ? (change(item) ?? []) : item));
    this.#set({ items });
  }

  /** Reads the first page anew. */
  async reload(): Promise<void> {
    this.#gone.clear();
    await this.#load(() => this.live.inbox.page(this.options), true);
  }

  /** Reads the next page. */
  async more(): Promise<void> {
    if (this.#next && !this.value.loading) await this.#load(this.#next, false);
  }

  async #load(get: () => Promise<InboxPage>, isFirst: boolean): Promise<void> {
    const load = ++this.#loads;
    const before = new Set(this.value.items.map((i) => i.id));
    this.#set({ loading: true, error: undefined });
    try {
      const page = await get();
      if (load !== this.#loads) return;
      this.#next = page.next;
      const items = isFirst ? this.value.items.filter((i) => !before.has(i.id)) : this.value.items;
      this.#set({ items: this.#merged(items, page.items), loading: false, hasMore: page.next !== undefined });
    } catch (error) {
      if (load === this.#loads) this.#set({ loading: false, error: error as Error });
    }
  }

  #came(notification: Notification): void {
    const { id } = notification;
    if (!id || notification.counted === false || this.options.state === 'read') return;
    if (this.options.state === 'unread' && notification.read) return;
    if (this.value.items.some((i) => i.id === id)) return;
    const item: InboxItem = {
      ...notification,
      id,
      state: { received: null, read: notification.read ? notification.time : null },
    };
    const oldest = this.value.items.at(-1);
    if (this.value.hasMore && oldest && item.time < oldest.time) return; // it is on a page not read yet
    this.#set({ items: this.#merged(this.value.items, [item]) });
  }

  /** Newest first, each once. */
  #merged(some: readonly InboxItem[], more: readonly InboxItem[]): InboxItem[] {
    const known = new Set(some.map((i) => i.id));
    const items = [...some, ...more.filter((i) => !known.has(i.id) && !this.#gone.has(i.id))];
    return items.sort((a, b) => (a.time < b.time ? 1 : a.time > b.time ? -1 : 0));
  }

  #changed(change: Change): void {
    const { id } = change;
    if (change.kind === 'gap') void this.reload();
    else if (change.kind === 'read') this.#marked(change);
    else if (change.kind === 'released') {
      if (id && this.value.items.some((i) => i.id === id))
        this.#edit(id, (i) => ({ ...i, state: { ...i.state, taken: false } }));
      else this.#came({ ...(change as unknown as Notification), kind: 'notification' });
    } else if (id && change.kind === 'taken' && change.by === this.live.user)
      this.#edit(id, (i) => ({ ...i, state: { ...i.state, taken: true } }));
    else if (id) {
      this.#gone.add(id);
      this.#edit(id, () => null);
    }
  }

  #marked(change: Change): void {
    // Up to a cursor: which those are, the inbox knows.
    if (change.upTo) return void this.reload();
    const read = change.unreadAgain ? null : (change.time ?? new Date().toISOString());
    this.#mark(
      (i) =>
        change.all === true ||
        (change.ids?.includes(i.id) ?? (change.subject !== undefined && i.subject === change.subject)),
      read,
    );
  }

  #mark(which: (item: InboxItem) => boolean, read: string | null): void {
    const items = this.value.items.map((i) =>
      which(i) && (i.state.read === null) !== (read === null) ? { ...i, state: { ...i.state, read } } : i,
    );
    this.#set({ items });
  }

  async #act(which: (item: InboxItem) => boolean, work: () => Promise<void>): Promise<void> {
    const before = this.value.items.filter((i) => which(i) && i.state.read === null).map((i) => i.id);
    this.#mark(which, new Date().toISOString());
    try {
      await work();
    } catch (error) {
      this.#mark((i) => before.includes(i.id), null);
      this.#set({ error: error as Error });
    }
  }

  /** Marks read, at once to see; taken back when the service does not take it. */
  markRead(ids: string[]): Promise<void> {
    return this.#act(
      (i) => ids.includes(i.id),
      () => this.live.inbox.markRead({ ids }),
    );
  }

  /** Marks unread again, at once to see. */
  async markUnread(ids: string[]): Promise<void> {
    const which = (i: InboxItem) => ids.includes(i.id) && i.state.read !== null;
    const before = new Map(this.value.items.filter(which).map((i) => [i.id, i.state.read]));
    this.#mark(which, null);
    try {
      await this.live.inbox.markUnread({ ids });
    } catch (error) {
      for (const [id, read] of before) this.#mark((i) => i.id === id, read);
      this.#set({ error: error as Error });
    }
  }

  markAllRead(): Promise<void> {
    return this.#act(
      () => true,
      () => this.live.inbox.markRead({ all: true }),
    );
  }

  /** Stops following the inbox. */
  close(): void {
    this.#loads++;
    for (const stop of this.#stop) stop();
  }
}
