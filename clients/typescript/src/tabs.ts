import { climb, type LadderEvents } from './ladder.js';
import { type Leadership, seekLeadership } from './leadership.js';
import type { Link, Place } from './links.js';
import type { Message, Transport } from './messages.js';
import { isHidden, later } from './page.js';
import { afterwards, nobodyKnown, type PresenceView } from './presence.js';

const pingMs = 2000;
const mostMissed = 3;
const mostKept = 1000;
/** What concerns the connection alone, and no other tab. */
const own = new Set(['opened', 'ackDue', 'expiring', 'ending', 'done', 'refused']);

/** What tabs tell each other. Without `to`: all of them; `leader`: the one that is connected. */
type Word = { from: string; to?: string } & (
  | { kind: 'join'; cursor: string | null }
  | { kind: 'ask'; message: Message }
  | { kind: 'leave' | 'ping' | 'down' | 'signOut' }
  | { kind: 'pong'; up: boolean; hidden: boolean }
  | { kind: 'up' }
  | { kind: 'joined'; opened: Message; behind: Message[] | null; known: string }
  | { kind: 'message' | 'answer'; message: Message }
  | { kind: 'known'; cursor: string }
);
type Unsigned = Word extends infer W ? (W extends Word ? Omit<W, 'from'> : never) : never;

/** What the page's own `Live` asked for. */
interface Seat {
  rungs: readonly Transport[];
  place: Place;
  staggerMs: number;
  events: LadderEvents;
}

/** The tabs of one browser profile in which the same user is signed in: one of them is connected, and gives the others what comes. */
export class Tabs {
  readonly #me = crypto.getRandomValues(new Uint32Array(2)).join('-');
  readonly #signedOut: () => void;
  readonly #userOf: (token: string) => string;
  #name = '';
  #channel: BroadcastChannel | undefined;
  #leadership: Leadership | undefined;
  #seat: Seat | undefined;
  #isLeading = false;
  #missed = 0;
  #pings: ReturnType<typeof setInterval> | undefined;
  /** The cursor of the newest message that the page's `Live` was given. */
  #newest: string | null = null;
  /** The newest cursor that the service knows to be handled. */
  #known: string | null = null;
  /** What came while it was not known yet what lies before. */
  #early: Message[] | undefined;
  #isJoined = false;
  // As the one that is connected:
  #real: { close(): void } | undefined;
  #link: Link | undefined;
  #opened: Message | undefined;
  #kept: Message[] = [];
  #base = '';
  readonly #acks = new Map<string, string>();
  readonly #wanted = new Map<string, Set<string>>();
  readonly #here = new Map<string, PresenceView>();
  readonly #subjects = new Map<string, string>();

  constructor(userOf: (token: string) => string, signedOut: () => void) {
    this.#userOf = userOf;
    this.#signedOut = signedOut;
    for (const gone of ['freeze', 'pagehide'])
      (gone === 'freeze' ? globalThis.document : globalThis)?.addEventListener?.(gone, () => this.end());
    globalThis.document?.addEventListener?.('visibilitychange', () => !isHidden() && this.#ping());
  }

  /** Connects a `Live`: itself, or through the tab that is connected. */
  climb = (rungs: readonly Transport[], place: Place, staggerMs: number, events: LadderEvents): { close(): void } => {
    const seat: Seat = { rungs, place, staggerMs, events };
    if (this.#isLeading && this.#link) {
      // It tries a better transport.
      const real = this.#connect(seat);
      return { close: () => (this.#seat === seat ? this.#leave(seat) : real.close()) };
    }
    const name = `rovett ${place.url} ${place.query.get('device') ?? ''} ${this.#userOf(place.token)}`;
    if (name !== this.#name) {
      this.end();
      this.#name = name;
      this.#newest = this.#known = null;
    }
    this.#seat = seat;
    const after = place.query.get('after');
    this.#newest = after === 'now' ? null : (after ?? this.#newest);
    if (this.#isLeading) this.#connect(seat);
    else {
      this.#begin();
      this.#join();
    }
    return { close: () => this.#leave(seat) };
  };

  #leave(seat: Seat): void {
    if (this.#seat !== seat) return;
    this.#seat = this.#early = undefined;
    this.#isJoined = false;
    this.#real?.close();
    this.#down();
  }

  /** Ends it for every tab of this user. */
  signOut(): void {
    this.#post({ kind: 'signOut' });
    this.end();
  }

  /** This page takes no part until its `Live` connects again. */
  end(): void {
    this.#post({ kind: 'leave', to: 'leader' });
    this.#real?.close();
    this.#down();
    this.#isLeading = this.#isJoined = false;
    this.#leadership?.end();
    this.#leadership = undefined;
    clearInterval(this.#pings);
    this.#channel?.close();
    this.#channel = undefined;
    this.#name = '';
  }

  #begin(): void {
    if (this.#channel) return;
    this.#channel = new BroadcastChannel(this.#name);
    this.#channel.onmessage = ({ data }) => this.#heard(data);
    (this.#channel as { unref?: () => void }).unref?.();
    this.#leadership = seekLeadership(this.#name, { won: () => this.#won(), lost: () => this.#lost() });
    this.#pings = setInterval(() => this.#ping(), pingMs);
    (this.#pings as { unref?: () => void }).unref?.();
  }

  #post(word: Unsigned): void {
    this.#channel?.postMessage({ ...word, from: this.#me });
  }

  #won(): void {
    this.#isLeading = true;
    this.#missed = 0;
    if (this.#seat) this.#connect(this.#seat);
  }

  #lost(): void {
    this.#isLeading = false;
    this.#real?.close();
    this.#real = this.#link = this.#opened = undefined;
    if (this.#seat) this.#join();
  }

  /** Where timers sleep, words of other tabs wake this one: only who is seen asks. */
  #ping(): void {
    if (this.#isLeading || !this.#seat || isHidden()) return;
    if (++this.#missed > mostMissed) {
      this.#missed = 0;
      this.#leadership?.steal();
    } else this.#post({ kind: 'ping', to: 'leader' });
  }

  #connect(seat: Seat): { close(): void } {
    // What the service knows to be here was handled; what came since comes again, and is known by its id.
    if (this.#known) seat.place.query.set('after', this.#known);
    let mine: Link | undefined;
    const real = climb(seat.rungs, seat.place, seat.staggerMs, {
      ...seat.events,
      opened: (link, message) => {
        mine = this.#link = link;
        if (this.#real !== real) this.#real?.close();
        this.#real = real;
        this.#seat = seat;
        this.#newest = message.cursor;
        this.#opened = { ...message, totals: { ...message.totals } };
        this.#base = message.cursor;
        this.#known ??= message.cursor;
        this.#kept = [];
        this.#acks.clear();
        this.#wanted.clear();
        this.#here.clear();
        this.#subjects.clear();
        seat.events.opened({ ...link, send: (messages) => this.#send(messages as Message[], this.#me) }, message);
        this.#post({ kind: 'up' });
      },
      message: (message) => mine === this.#link && this.#came(message, seat),
      closed: (trouble) => {
        if (mine && mine !== this.#link) return;
        const isTrial = !mine && this.#link;
        if (!isTrial) this.#down();
        seat.events.closed(trouble);
        if (!isTrial && trouble.problem && trouble.problem.status < 500) this.end(); // another tab's token may be better
      },
    });
    if (!this.#link) this.#real = real;
    return real;
  }

  #down(): void {
    if (this.#link) this.#post({ kind: 'down' });
    this.#real = this.#link = this.#opened = undefined;
  }

  async #send(messages: Message[], tab: string): Promise<void> {
    const link = this.#link;
    if (!link) throw new Error('not connected');
    const out: Message[] = [];
    for (const message of messages) {
      if (message.kind === 'ack' && message.upTo) this.#acks.set(message.requestId, message.upTo);
      const answered = message.kind === 'attend' ? this.#attend(message, tab) : this.#subscribe(message, tab);
      if (!answered) out.push(message);
      else if (message.requestId) this.#answer({ kind: 'done', requestId: message.requestId });
    }
    if (out.length > 0) await link.send(out);
  }

  /** A topic is subscribed to, and looked at who is there, as long as one tab does. True: there is nothing to ask the service. */
  #subscribe({ kind, topic, address }: Message, tab: string): boolean {
    const what = topic ?? address;
    const key = /watch/.test(kind) ? `watch ${what}` : `subscribe ${what}`;
    const tabs = this.#wanted.get(key) ?? new Set();
    if (kind === 'subscribe' || kind === 'watch') {
      const others = tabs.size;
      this.#wanted.set(key, tabs.add(tab));
      const here = this.#here.get(what);
      if (others > 0 && kind === 'watch' && here)
        this.#answer({ kind: 'presence', requestId: `${tab} `, of: what, count: here.count, people: here.people });
      return others > 0;
    }
    if (kind !== 'unsubscribe' && kind !== 'unwatch') return false;
    tabs.delete(tab);
    if (tabs.size > 0) return true;
    this.#wanted.delete(key);
    if (kind === 'unwatch') this.#here.delete(what);
    return false;
  }

  /** The session attends what was looked at last. */
  #attend(message: Message, tab: string): boolean {
    this.#subjects.delete(tab);
    if (message.subject !== null) this.#subjects.set(tab, message.subject);
    else message.subject = [...this.#subjects.values()].at(-1) ?? null;
    return false;
  }

  /** Another node serves the space: on the same connection, what tabs have asked for is asked for again. */
  #reopened(message: Message, seat: Seat): void {
    this.#opened = { ...message, totals: { ...message.totals } };
    const after = this.#newest;
    const asked: Message[] = [...this.#wanted.keys()].map((key) => {
      const what = key.slice(key.indexOf(' ') + 1);
      return key.startsWith('watch ')
        ? { kind: 'watch', address: what }
        : { kind: 'subscribe', topic: what, ...(after ? { after } : {}) };
    });
    const subject = [...this.#subjects.values()].at(-1);
    if (subject) asked.push({ kind: 'attend', subject });
    if (asked.length > 0) this.#link?.send(asked).catch(() => undefined); // then the connection is gone
    const told = { kind: 'channels', channels: message.channels, totals: message.totals };
    this.#post({ kind: 'message', message: told });
    seat.events.message(told);
  }

  #came(message: Message, seat: Seat): void {
    if (message.kind === 'opened') {
      this.#reopened(message, seat);
      return;
    }
    const { requestId } = message;
    if (requestId) {
      const acked = this.#acks.get(requestId);
      this.#acks.delete(requestId);
      if (acked && message.kind === 'done') {
        this.#known = acked;
        this.#post({ kind: 'known', cursor: acked });
      }
      this.#answer(message);
      return;
    }
    if (message.cursor) {
      this.#newest = message.cursor;
      this.#kept.push(message);
      if (this.#kept.length > mostKept) this.#base = this.#kept.shift()?.cursor;
    }
    const opened = this.#opened;
    if (opened) {
      if (message.totals) opened.totals = message.totals;
      else if (message.rev !== undefined && message.counted !== false)
        opened.totals = { unread: message.unread, asOf: message.time, rev: message.rev };
      if (message.kind === 'channels') opened.channels = message.channels;
    }
    if (message.kind === 'presence')
      this.#here.set(message.of, afterwards(this.#here.get(message.of) ?? nobodyKnown, message));
    if (!own.has(message.kind)) this.#post({ kind: 'message', message });
    seat.events.message(message);
  }

  /** Gives an answer to the tab that asked. */
  #answer(message: Message): void {
    const [tab, requestId] = String(message.requestId).split(' ');
    if (requestId === undefined || tab === this.#me) this.#seat?.events.message(message);
    else this.#post({ kind: 'answer', to: tab, message: { ...message, requestId } });
  }

  #join(): void {
    this.#early = undefined;
    this.#isJoined = false;
    this.#post({ kind: 'join', to: 'leader', cursor: this.#newest });
  }

  #heard(word: Word): void {
    if (word.to === 'leader') {
      if (this.#isLeading) this.#asked(word);
      return;
    }
    if (word.to && word.to !== this.#me) return;
    if (word.kind === 'signOut') {
      this.end();
      this.#signedOut();
    }
    if (this.#isLeading || !this.#seat) return;
    this.#missed = 0;
    switch (word.kind) {
      case 'up':
        this.#join();
        break;
      case 'down':
        if (this.#isJoined) this.#seat.events.closed({ why: 'the tab that is connected lost its connection' });
        break;
      case 'pong':
        if (!word.up && word.hidden && !isHidden()) this.#leadership?.steal();
        else if (word.up && !this.#isJoined && !this.#early) this.#join();
        break;
      case 'joined':
        void this.#joined(word.opened, word.behind, word.known, this.#seat);
        break;
      case 'known':
        if (this.#isJoined) this.#known = word.cursor;
        break;
      case 'answer':
        this.#seat.events.message(word.message);
        break;
      case 'message':
        if (this.#isJoined) this.#give(word.message);
        else this.#early?.push(word.message);
    }
  }

  #asked(word: Word): void {
    const { from } = word;
    if (word.kind === 'ping') this.#post({ kind: 'pong', to: from, up: this.#link !== undefined, hidden: isHidden() });
    else if (word.kind === 'join' && this.#opened) {
      const at = word.cursor === this.#base ? 0 : this.#kept.findLastIndex((m) => m.cursor === word.cursor) + 1;
      const behind = word.cursor === null ? [] : word.cursor === this.#base || at > 0 ? this.#kept.slice(at) : null;
      this.#post({
        kind: 'joined',
        to: from,
        opened: { ...this.#opened, newest: this.#newest },
        behind,
        known: this.#known ?? this.#base,
      });
    } else if (word.kind === 'leave') {
      for (const [key, tabs] of [...this.#wanted]) {
        const space = key.indexOf(' ');
        const [kind, what] = [key.slice(0, space), key.slice(space + 1)];
        if (tabs.has(from))
          this.#send([{ kind: `un${kind}`, [kind === 'watch' ? 'address' : 'topic']: what }], from).catch(
            () => undefined,
          );
      }
      if (this.#subjects.has(from)) this.#send([{ kind: 'attend', subject: null }], from).catch(() => undefined);
    } else if (word.kind === 'ask') {
      const { message } = word;
      const requestId = message.requestId && `${from} ${message.requestId}`;
      this.#send([{ ...message, ...(requestId ? { requestId } : {}) }], from).catch((error) => {
        if (requestId)
          this.#answer({
            kind: 'refused',
            requestId,
            problem: { type: 'about:blank', title: String(error?.message ?? error), status: 503 },
          });
      });
    }
  }

  async #joined(opened: Message, behind: Message[] | null, known: string, seat: Seat): Promise<void> {
    const early: Message[] = [];
    this.#early = early;
    let messages = behind;
    try {
      messages ??= await this.#between(seat);
    } catch (error) {
      if (this.#early === early) seat.events.closed({ why: `what lies between was not read: ${error}` });
      return;
    }
    if (this.#early !== early || this.#seat !== seat) return; // joined anew meanwhile
    const cursor = this.#newest ?? opened.newest ?? opened.cursor;
    this.#known = known;
    this.#early = undefined;
    this.#isJoined = true;
    const { transport } = opened;
    seat.events.tried([]);
    seat.events.opened(
      { transport, through: 'another tab', send: (sent) => this.#through(sent as Message[]), close: () => undefined },
      { ...opened, cursor },
    );
    for (const message of [...messages, ...early]) this.#give(message);
    this.#give({ kind: 'current', cursor: this.#newest ?? cursor });
  }

  /** What lies between this tab's cursor and the present, when the connected tab no longer has it. */
  async #between({ place }: Seat): Promise<Message[]> {
    const query = new URLSearchParams({ after: this.#newest ?? '' });
    const messages: Message[] = [];
    let path = `/v1/live?${query}`;
    for (let turn = 1; ; turn++) {
      const answer = await place.fetch(place.url + path, {
        headers: { Accept: 'application/json', Prefer: 'wait=5', Authorization: `Bearer ${place.token}` },
        cache: 'no-store',
      });
      if (!answer.ok) throw new Error(`it was answered ${answer.status}`);
      const some: Message[] = await answer.json();
      const session = messages[0]?.session ?? some[0]?.session;
      messages.push(...some);
      if (some.some((m) => m.kind === 'current'))
        return messages.filter((m) => !own.has(m.kind) && m.kind !== 'current');
      path = `/v1/live/${session}?turn=${turn}`;
    }
  }

  #give(message: Message): void {
    if (message.cursor) this.#newest = message.cursor;
    this.#seat?.events.alive();
    this.#seat?.events.message(message);
  }

  /** What this tab's `Live` sends: the connected one acknowledges for all. */
  async #through(messages: Message[]): Promise<void> {
    for (const message of messages) {
      if ((message.kind === 'ack' && !message.again) || message.kind === 'renew')
        later(() => this.#seat?.events.message({ kind: 'done', requestId: message.requestId }), 0);
      else this.#post({ kind: 'ask', to: 'leader', message });
    }
  }
}
