import { climb } from './ladder.js';
import type { Link, Trouble } from './links.js';
import { memory } from './memory.js';
import type { Message, Transport } from './messages.js';
import type { LiveOptions, LiveState } from './options.js';
import { isHidden, later } from './page.js';
import { tokenOf } from './token.js';
import { Value } from './value.js';

const order: readonly Transport[] = ['websocket', 'sse', 'long-poll'];

/** What a connection tells. */
export interface ConnectionEvents {
  /** The cursor to resume from. */
  from(): string | null | undefined;
  /** It is made, or another transport takes over. */
  opened(link: Link, message: Message): void;
  message(message: Message): void;
  /** It is gone, or about to be replaced: what was asked on it is not answered. */
  dropped(): void;
  /** The page sleeps soon. */
  freezing(): void;
  report(what: string, about?: unknown): void;
}

/** What connects instead, and whether only pages that are seen do. */
export interface How {
  climb?: typeof climb | undefined;
  onlySeen?: boolean;
}

/** One user's connection: made by the best transport that works, made again after cuts, with a token that is renewed in time. */
export class Connection {
  readonly state = new Value<LiveState>({ phase: 'connecting', transport: null, tried: [], reconnects: 0 });
  /** The connection there is now. */
  link: Link | undefined;

  readonly #options: LiveOptions;
  readonly #how: How;
  readonly #events: ConnectionEvents;
  readonly #url: string;
  readonly #transports: readonly Transport[];
  readonly #upgradeMs: number;
  #token: string | undefined;
  #ladder: { close(): void } | undefined;
  #trial: { close(): void } | undefined;
  #retry: ReturnType<typeof setTimeout> | undefined;
  #watch: ReturnType<typeof setTimeout> | undefined;
  #upgrade: ReturnType<typeof setTimeout> | undefined;
  #heartbeatMs = 20_000;
  #failures = 0;
  #opens = 0;
  #attempt = 0;

  constructor(options: LiveOptions, url: string, how: How, events: ConnectionEvents) {
    this.#options = options;
    this.#how = how;
    this.#events = events;
    this.#url = url;
    this.#transports = options.transports ?? order;
    this.#upgradeMs = options.upgradeMs ?? 600_000;
  }

  /** Tries again now, if it is waiting to; also when it was refused, with a fresh token: the user may have signed in again. */
  reconnect(): void {
    if (this.state.value.phase === 'refused') {
      this.#token = undefined;
      this.#failures = 0;
      this.#set({ problem: undefined });
      void this.open();
    } else this.retryNow();
  }

  retryNow(): void {
    if (this.state.value.phase === 'offline') void this.open();
  }

  /** What a transport is remembered for. */
  get #place(): string {
    return `${this.#url} ${this.#options.device ?? ''}`;
  }

  get fetch(): typeof globalThis.fetch {
    return this.#options.fetch ?? ((...args) => globalThis.fetch(...args));
  }

  #set(change: Partial<LiveState>): void {
    this.state.set({ ...this.state.value, ...change });
  }

  async getToken(fresh: boolean): Promise<string> {
    if (fresh || this.#token === undefined) this.#token = await tokenOf(this.#options.token);
    return this.#token;
  }

  async open(): Promise<void> {
    this.#drop();
    if (this.#how.onlySeen && isHidden()) return this.freeze();
    const attempt = ++this.#attempt;
    this.#set({ phase: 'connecting', transport: null, tried: [], why: undefined });
    try {
      await this.getToken(false);
    } catch (error) {
      if (attempt !== this.#attempt) return;
      this.#events.report('the token function failed', error);
      this.#closed({ why: (error as Error).message });
      return;
    }
    if (attempt === this.#attempt) this.#ladder = this.#climb(this.#rungs());
  }

  #climb(rungs: readonly Transport[], isTrial = false): { close(): void } {
    let onTrial = isTrial;
    const query = new URLSearchParams('heartbeat=event&reopens=true');
    const { device, label, after } = this.#options;
    if (device) query.set('device', device);
    if (label) query.set('label', label);
    const from = this.#events.from() ?? after;
    if (from) query.set('after', from);
    const place = {
      url: this.#url,
      query,
      token: this.#token ?? '',
      fetch: this.fetch,
      WebSocket: this.#options.WebSocket ?? globalThis.WebSocket,
    };
    let it: Link | undefined;
    const ladder = (this.#how.climb ?? climb)(rungs, place, this.#options.staggerMs ?? 1200, {
      tried: (tried) => this.#set({ tried }),
      opened: (link, message) => {
        it = link;
        if (onTrial) {
          onTrial = false;
          // A better transport works again: it takes over, and continues where the other was.
          this.#trial = undefined;
          this.#ladder?.close();
          this.#ladder = ladder;
        }
        this.#opened(link, message);
      },
      message: (message) => it === this.link && this.#events.message(message),
      alive: () => it === this.link && this.#alive(),
      closed: (trouble) => {
        if (onTrial) this.#trial = undefined;
        else if (!it || it === this.link) this.#closed(trouble);
      },
    });
    return ladder;
  }

  /** Where the best failed lately, it is not waited for each time. */
  #rungs(): readonly Transport[] {
    const all = this.#transports;
    const worked = memory.get(this.#place);
    const from = worked && worked.until > Date.now() ? all.indexOf(worked.transport) : 0;
    return from > 0 && this.#failures < 2 ? [...all.slice(from), ...all.slice(0, from)] : all;
  }

  #opened(link: Link, message: Message): void {
    if (this.link) this.#events.dropped(); // it takes over from another transport, where the answers went
    this.link = link;
    this.#heartbeatMs = message.heartbeatSeconds * 1000;
    this.#events.opened(link, message);
    this.#set({
      phase: 'catching up',
      transport: link.transport,
      through: link.through,
      reconnects: Math.max(0, this.#opens++),
      why: undefined,
      problem: undefined,
    });
    this.#alive();
    clearTimeout(this.#upgrade);
    const better = link.through ? 0 : this.#transports.indexOf(link.transport);
    if (!link.through)
      memory.set(
        this.#place,
        better > 0 ? { transport: link.transport, until: Date.now() + this.#upgradeMs } : undefined,
      );
    if (better > 0) this.#upgrade = later(() => this.#tryBetter(better), this.#upgradeMs);
  }

  #tryBetter(rungs: number): void {
    if (this.link && !this.#trial) this.#trial = this.#climb(this.#transports.slice(0, rungs), true);
    this.#upgrade = later(() => this.#tryBetter(rungs), this.#upgradeMs);
  }

  /** Everything up to the present has come. */
  current(): void {
    this.#failures = 0;
    this.#set({ phase: 'live' });
  }

  /** Shows a fresh token before the present one ends.
   * @param request - Asks the service. */
  async renew(request: (message: Message) => Promise<void>, failed = 0): Promise<void> {
    const link = this.link;
    try {
      const token = await this.getToken(true);
      if (link === this.link) await request({ kind: 'renew', token });
    } catch (error) {
      if (link !== this.link) return; // it shows the token that it has when it comes back
      this.#events.report('the token was not renewed', error);
      const { min, max } = this.#pauses;
      later(() => link && link === this.link && void this.renew(request, failed + 1), Math.min(max, min * 2 ** failed));
    }
  }

  get #pauses(): { min: number; max: number } {
    return { min: 300, max: 20_000, ...this.#options.retryMs };
  }

  /** The service ends it. */
  ending(message: Message): void {
    const { reason, comeBackWithinMs } = message;
    if (comeBackWithinMs !== undefined) {
      this.#wait(Math.random() * comeBackWithinMs, `the service ended it: ${reason}`);
      return;
    }
    if (reason === 'token-expired' || reason === 'signing-key-removed') {
      // With a fresh one, which another key may have signed. Of a key there are many tokens, whose devices come back one after the other.
      this.#token = undefined;
      this.#wait(reason === 'token-expired' ? 0 : Math.random() * 3000, `the service ended it: ${reason}`);
      return;
    }
    this.#drop();
    this.#set({ phase: 'refused', transport: null, why: reason });
  }

  #closed(trouble: Trouble): void {
    const { problem } = trouble;
    if (problem && problem.status < 500 && problem.status !== 429) {
      // Once with a fresh token: the one before may have ended.
      const isRepeated = this.state.value.problem?.type === problem.type;
      const isLate = isRepeated && problem.type.endsWith(':token-expired'); // it is given what somebody keeps too long
      if (problem.status !== 401 || (isRepeated && !isLate)) {
        this.#drop();
        this.#set({ phase: 'refused', transport: null, why: trouble.why, problem });
        return;
      }
      this.#token = undefined;
      this.#set({ problem });
      if (!isLate) {
        this.#wait(0, trouble.why);
        return;
      }
    }
    const { min, max } = this.#pauses;
    this.#wait(Math.min(max, min * 2 ** this.#failures++) * (0.5 + Math.random() / 2), trouble.why);
  }

  #wait(ms: number, why: string): void {
    this.#drop();
    this.#set({ phase: 'offline', transport: null, why });
    this.#retry = setTimeout(() => void this.open(), ms);
  }

  /** Ends it for good. */
  close(): void {
    this.#drop();
    this.#set({ phase: 'closed', transport: null });
  }

  #drop(): void {
    this.#attempt++;
    for (const timer of [this.#retry, this.#watch, this.#upgrade]) clearTimeout(timer);
    this.#trial?.close();
    this.#ladder?.close();
    this.#trial = this.#ladder = this.link = undefined;
    this.#events.dropped();
  }

  /** A connection that says nothing for much longer than its heartbeat is dead, whatever the network thinks. */
  #alive(): void {
    clearTimeout(this.#watch);
    this.#watch = later(() => this.#closed({ why: 'nothing came for too long' }), this.#heartbeatMs * 2.5);
  }

  /** Lets go of it while the page sleeps. */
  freeze(): void {
    if (!this.isWanted) return;
    this.#events.freezing();
    this.#drop();
    this.#set({ phase: 'offline', transport: null, why: 'the page sleeps' });
  }

  get isWanted(): boolean {
    return !['closed', 'refused'].includes(this.state.value.phase);
  }
}
