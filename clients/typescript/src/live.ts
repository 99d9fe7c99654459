import { Connection, type How } from './connection.js';
import { Handlers } from './handlers.js';
import { caller, Inbox } from './inbox.js';
import { Intake } from './intake.js';
import type { Link } from './links.js';
import { type Change, type Message, type Notification, RovettError, type Said, type Totals } from './messages.js';
import type { Handler, LiveOptions, LiveState } from './options.js';
import { isHidden, later, watchPage } from './page.js';
import { Presence, type PresenceView } from './presence.js';
import { type Readable, Value } from './value.js';

const ackEvery = 128;
const ackWithinMs = 1000;

/** Begins to receive a user's notifications. */
export function connect(options: LiveOptions): Live {
  return new Live(options);
}

/** One user's notifications as they come: connects by the best transport that works, comes back after cuts, goes on where it
 * was, hands each notification out once, in order, and acknowledges what was handled. */
export class Live {
  readonly #options: LiveOptions;
  readonly #how: How;
  readonly #connection: Connection;
  readonly #totals = new Value<Totals | null>(null);
  readonly #channels = new Value<readonly string[]>([]);
  readonly #handlers = new Handlers();
  readonly #unhandled = new Set<string>();
  readonly #changes = new Set<(change: Change) => void>();
  readonly #listeners = new Set<(said: Said) => void>();
  readonly #requests = new Map<string, { resolve: () => void; reject: (error: Error) => void }>();
  readonly #presence = new Presence((kind, address) => this.#request({ kind, address }));
  readonly #topics = new Map<string, number>();
  readonly #intake: Intake;
  readonly #stop: (() => void)[] = [];
  #user: string | undefined;
  #session: string | undefined;
  #subject: string | null = null;
  #ackTimer: ReturnType<typeof setTimeout> | undefined;
  #numbers = 0;
  #newest: string | undefined;
  /** Up to where topics were caught up with, while that is under way. */
  #caughtUpTo: string | undefined;
  #work: Promise<void> = Promise.resolve();

  /** The user's inbox. */
  readonly inbox: Inbox;

  /** @param how - For `rovett/shared`: what connects instead, and whether only pages that are seen do. */
  constructor(options: LiveOptions, how: How = {}) {
    this.#options = options;
    this.#how = how;
    const url = options.url.replace(/\/+$/, '');
    this.#intake = new Intake(options.after === 'now' ? null : (options.after ?? null));
    this.#connection = new Connection(options, url, how, {
      from: () => this.#intake.resume,
      opened: (_, message) => this.#opened(message),
      message: (message) => this.#take(message),
      dropped: () => this.#giveUp(),
      freezing: () => void this.#flush(),
      report: (what, about) => this.#report(what, about),
    });
    this.inbox = new Inbox(
      caller(url, this.#connection.fetch, (fresh) => this.#connection.getToken(fresh)),
      (totals) => this.#newer(totals),
    );
    this.#listen();
    queueMicrotask(() => void this.#connection.open());
  }

  get #link(): Link | undefined {
    return this.#connection.link;
  }

  /** How the connection stands. */
  get state(): Readable<LiveState> {
    return this.#connection.state;
  }

  /** The user's totals; null until the first are known. Never goes back to staler ones. */
  get totals(): Readable<Totals | null> {
    return this.#totals;
  }

  /** The present session: give it to your backend, which names it (`Rovett-Session`) in what it sends because of the user; this page
   * is then left out. */
  get session(): string | undefined {
    return this.#link ? this.#session : undefined;
  }

  /** The user, once the service has said so. */
  get user(): string | undefined {
    return this.#user;
  }

  /** The addresses that reach this session. */
  get channels(): Readable<readonly string[]> {
    return this.#channels;
  }

  /** The cursor to go on from in another visit: everything before it was handled, and the service knows. */
  get cursor(): string | null {
    return this.#intake.resume;
  }

  /** Handles notifications of a type: exact, ending in `*`, or `*` for all.
   * @returns Ends it. */
  on<D = unknown>(type: string, handler: Handler<D>): () => void {
    return this.#handlers.on(type, handler as Handler);
  }

  /** Handles what nothing else does. */
  otherwise(handler: Handler): () => void {
    return this.#handlers.otherwise(handler);
  }

  /** Hears what became of notifications, and what other devices of the user did. */
  onChange(listener: (change: Change) => void): () => void {
    this.#changes.add(listener);
    return () => this.#changes.delete(listener);
  }

  /** Hears what comes on a topic, as long as this is connected; after a cut, what came meanwhile. */
  async subscribe(topic: string): Promise<void> {
    const others = this.#topics.get(topic) ?? 0;
    this.#topics.set(topic, others + 1);
    if (others > 0 || !this.#link) return; // it is, or is asked for once there is a connection
    try {
      await this.#request({ kind: 'subscribe', topic });
    } catch (error) {
      if (error instanceof RovettError) this.#topics.delete(topic);
      throw error;
    }
  }

  /** Ends one `subscribe`; the topic is left when there is none. */
  async unsubscribe(topic: string): Promise<void> {
    const others = (this.#topics.get(topic) ?? 0) - 1;
    if (others > 0) this.#topics.set(topic, others);
    else if (this.#topics.delete(topic) && this.#link) await this.#request({ kind: 'unsubscribe', topic });
  }

  /** Says something to who is connected and on a topic: kept nowhere. `self`: this session hears it too. */
  say(topic: string, data: unknown, { self }: { self?: boolean } = {}): Promise<void> {
    return this.#request({ kind: 'say', topic, data, ...(self ? { self } : {}) });
  }

  /** Hears what is said on topics that this is subscribed to, or that the user follows. */
  onSaid<D = unknown>(listener: (said: Said<D>) => void): () => void {
    this.#listeners.add(listener as (said: Said) => void);
    return () => this.#listeners.delete(listener as (said: Said) => void);
  }

  /** Who is on a topic (`topic:berth/3`) or role (`role:engineer`), and who comes and goes, until it is closed. */
  presence(address: string): Readable<PresenceView> & { close(): void } {
    return this.#presence.of(address);
  }

  /** Says what the user is looking at: what comes about it arrives read. Null: nothing. */
  async attend(subject: string | null): Promise<void> {
    this.#subject = subject;
    if (this.#link) await this.#request({ kind: 'attend', subject });
  }

  /** Tries again now, if it is waiting to; also when it was refused, with a fresh token: the user may have signed in again. */
  reconnect(): void {
    this.#connection.reconnect();
  }

  /** Acknowledges what was handled, and ends the connection for good, as soon as the service has answered that (1 s at most). */
  async close(): Promise<void> {
    if (this.state.value.phase === 'closed') return;
    for (const stop of this.#stop) stop();
    await this.#flush();
    // So that the next visit is not given again what this one has handled.
    for (let i = 0; i < 50 && this.#link && this.#intake.asked > 0; i++) await new Promise((r) => setTimeout(r, 20));
    this.#connection.close();
  }

  #report(what: string, about?: unknown): void {
    if (this.#options.report) this.#options.report(what, about);
    else console.warn(`rovett: ${what}`, about ?? '');
  }

  /** A session began; with `again` on the connection that there was. */
  #opened(message: Message, again?: boolean): void {
    this.#user = message.user;
    this.#session = message.session;
    if (!again) this.#intake.opened(message.cursor);
    this.#newest ??= message.cursor;
    this.#channels.set(message.channels);
    this.#newer(message.totals);
    this.#subscribeAnew();
    this.#presence.opened();
    if (this.#subject !== null) this.#request({ kind: 'attend', subject: this.#subject }).catch(() => undefined);
  }

  /** What came on topics meanwhile is caught up with; should that be cut short, from the same point again. */
  #subscribeAnew(): void {
    this.#caughtUpTo ??= this.#newest;
    const link = this.#link;
    const after = this.#caughtUpTo;
    const asked = [...this.#topics.keys()].map((topic) =>
      this.#request({ kind: 'subscribe', topic, after }).catch((error) => {
        if (error instanceof RovettError) this.#report(`no subscription to ${topic}`, error);
      }),
    );
    void Promise.all(asked).then(() => {
      if (link === this.#link) this.#caughtUpTo = undefined;
    });
  }

  #take(message: Message): void {
    if (message.cursor) this.#newest = message.cursor;
    if (message.totals) this.#newer(message.totals);
    switch (message.kind) {
      case 'opened': // another node serves the space from now on, on the same connection
        this.#opened(message, true);
        break;
      case 'current':
        this.#intake.passed(message.cursor);
        this.#connection.current();
        break;
      case 'notification':
        this.#notification(message as unknown as Notification);
        break;
      case 'channels':
        this.#channels.set(message.channels);
        break;
      case 'gap':
        if (message.reason === 'new-life' && this.#newest) this.#intake.forget(this.#newest);
        if (message.reason === 'new-life') this.#caughtUpTo = undefined;
        this.#change(message);
        break;
      case 'withdrawn':
      case 'expired':
      case 'replaced':
      case 'taken':
      case 'released':
        this.#newer({ unread: message.unread, asOf: message.time, rev: message.rev });
        this.#change(message);
        break;
      case 'read':
      case 'choices':
        this.#change(message);
        break;
      case 'said':
        for (const listener of this.#listeners) this.#guard(() => listener(message as unknown as Said));
        break;
      case 'presence':
        this.#presence.take(message);
        break;
      case 'done':
      case 'refused':
        this.#answered(message);
        break;
      case 'ackDue':
        this.#flush();
        break;
      case 'expiring':
        void this.#connection.renew((renewing) => this.#request(renewing));
        break;
      case 'ending':
        this.#connection.ending(message);
        break;
    }
    // Timers sleep in tabs that nobody sees; messages do not.
    if (this.#intake.due > 0 && Date.now() - this.#intake.dueSince > ackWithinMs) this.#flush();
  }

  #change(message: Message): void {
    // After the notifications that came before it.
    this.#work = this.#work.then(() => {
      if (message.cursor) this.#intake.passed(message.cursor);
      for (const listener of this.#changes) this.#guard(() => listener(message as Change));
    });
  }

  #notification(notification: Notification): void {
    if (notification.unread !== undefined && notification.counted !== false && notification.rev !== undefined)
      this.#newer({ unread: notification.unread, asOf: notification.time, rev: notification.rev });
    if (!this.#intake.came(notification)) {
      this.#dueChanged();
      return;
    }
    const whole = notification.carry ? this.inbox.whole(notification).catch(() => null) : notification;
    this.#work = this.#work.then(() => this.#handle(notification, whole));
  }

  async #handle(part: Notification, whole: unknown): Promise<void> {
    const notification = (await whole) as Notification | null | undefined;
    // Not fetched, it comes again; gone, there is nothing to handle.
    if (!notification) return this.#handled(part, notification !== null);
    const handlers = this.#handlers.of(notification.type);
    if (handlers.length === 0 && !this.#unhandled.has(notification.type)) {
      this.#unhandled.add(notification.type); // once is enough to be found
      this.#report(`nothing handles ${notification.type}`, notification);
    }
    let well = true;
    for (const handler of handlers) {
      try {
        await handler(notification);
      } catch (error) {
        well = false;
        this.#report(`a handler of ${notification.type} failed`, error);
      }
    }
    this.#handled(notification, well);
  }

  #handled({ id, due }: Notification, well: boolean): void {
    if (!id) return;
    this.#intake.handled(id, well);
    if (well && due) void this.#flush();
    else if (well) this.#dueChanged();
    // It comes again, unless it came so often that it is of no use.
    else
      this.#request({ kind: 'ack', ids: [id], again: true }).catch((error) => {
        if (!(error instanceof RovettError)) return;
        this.#intake.handled(id, true);
        this.#dueChanged();
      });
  }

  #guard(work: () => void): void {
    try {
      work();
    } catch (error) {
      this.#report('a listener failed', error);
    }
  }

  #dueChanged(): void {
    if (this.#intake.due >= ackEvery) this.#flush();
    else if (this.#intake.due > 0 && !this.#ackTimer && !isHidden()) {
      this.#ackTimer = later(() => this.#flush(), ackWithinMs);
    }
  }

  async #flush(): Promise<void> {
    clearTimeout(this.#ackTimer);
    this.#ackTimer = undefined;
    if (!this.#link || this.#intake.due === 0) return;
    const acks = this.#intake.acks();
    if (acks.length === 0) return;
    try {
      await this.#link.send(acks);
    } catch {
      // The stream may live on while a post beside it fails.
      for (const { requestId } of acks) this.#intake.answered(requestId, true);
      this.#dueChanged();
    }
  }

  #request(message: Message): Promise<void> {
    const link = this.#link;
    if (!link) return Promise.reject(new Error('not connected'));
    const requestId = `r${++this.#numbers}`;
    return new Promise((resolve, reject) => {
      this.#requests.set(requestId, { resolve, reject });
      link.send([{ ...message, requestId }]).catch((error) => {
        this.#requests.delete(requestId);
        reject(error);
      });
    });
  }

  #answered(message: Message): void {
    if (this.#intake.answered(message.requestId, message.kind === 'refused' && message.problem?.status >= 500)) return;
    const request = this.#requests.get(message.requestId);
    this.#requests.delete(message.requestId);
    if (message.kind === 'done') request?.resolve();
    else if (request) request.reject(new RovettError(message.problem));
    else this.#report('a message was refused', message.problem);
  }

  #giveUp(): void {
    for (const request of this.#requests.values()) request.reject(new Error('the connection was lost'));
    this.#requests.clear();
  }

  /** Totals are absolute; staler ones than those shown are dropped. */
  #newer(totals: Totals | undefined): void {
    const shown = this.#totals.value;
    if (!totals || (shown && (totals.asOf < shown.asOf || totals.rev < shown.rev))) return;
    if (!shown || shown.unread !== totals.unread || shown.asOf !== totals.asOf || shown.rev !== totals.rev || totals.by)
      this.#totals.set(totals);
  }

  #listen(): void {
    this.#stop.push(
      watchPage({
        online: () => this.#connection.retryNow(),
        thawed: () => this.#connection.isWanted && void this.#connection.open(),
        frozen: () => this.#connection.freeze(),
        hidden: () => (this.#how.onlySeen ? this.#connection.freeze() : this.#flush()),
        seen: () => {
          this.#connection.retryNow();
          this.#dueChanged();
        },
      }),
    );
  }
}
