// A small client of this page's own: one device of one person. WebSocket first; where the upgrade fails, server-sent
// events. It resumes from what the service said it knows to be
// here, drops what it has already, acknowledges what it has shown, and never counts by itself.

export interface Item {
  id: string;
  to: string;
  type: string;
  title: string;
  link?: string;
  urgency: string;
  time: string;
  unread: boolean;
  /** One of those who have it may take it over. */
  takeable?: unknown;
  /** This person has taken it. */
  taken?: boolean;
}

export interface DeviceView {
  state: 'offline' | 'connecting' | 'catching up' | 'live';
  transport: 'WebSocket' | 'server-sent events' | null;
  tried: string[];
  unread: number | null;
  cursor: string | null;
  reconnects: number;
  channels: string[];
  items: Item[];
  newest: Item | null;
}

interface Totals {
  unread: number;
  asOf: string;
  rev: number;
}

// biome-ignore lint/suspicious/noExplicitAny: messages are what docs/protocol.md says; each use reads what it needs
type Message = any;

const ackEvery = 128;
const ackWithinMs = 400;

export class Device {
  view: DeviceView = {
    state: 'offline',
    transport: null,
    tried: [],
    unread: null,
    cursor: null,
    reconnects: -1,
    channels: [],
    items: [],
    newest: null,
  };
  webSocketBlocked = false;

  #listeners = new Set<() => void>();
  #shown: Totals = { unread: 0, asOf: '', rev: -1 };
  #socket: WebSocket | null = null;
  #stream: EventSource | null = null;
  #session: string | null = null;
  #token = '';
  #wanted = false;
  #failures = 0;
  #timer = 0;
  #toAck: string | null = null;
  /** The cursor to go on from after a cut: no later than what the service has confirmed to be here. */
  #resume: string | null = null;
  /** Shown, and not confirmed yet. */
  #unconfirmed: { id: string; cursor: string }[] = [];
  #ackCount = 0;
  #ackTimer = 0;
  #generation = 0;

  constructor(
    readonly service: string,
    readonly user: string,
    readonly label: string,
  ) {}

  subscribe = (listener: () => void): (() => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };

  snapshot = (): DeviceView => this.view;

  connect(): void {
    this.#wanted = true;
    this.#failures = 0;
    void this.#open();
  }

  disconnect(): void {
    this.#wanted = false;
    this.#drop();
    this.#set({ state: 'offline', transport: null });
  }

  /** Tries again from scratch, as after a change of the network. */
  reconnect(): void {
    if (!this.#wanted) return;
    this.#drop();
    void this.#open();
  }

  async markRead(ids: string[] | 'all'): Promise<void> {
    await this.#call('/v1/inbox/marks', { read: ids === 'all' ? { all: true } : { ids } });
    this.#markLocally(ids === 'all' ? null : ids);
  }

  /** Takes a job over, or gives it back; what becomes of it arrives as for everybody. */
  async take(id: string, take: boolean): Promise<void> {
    await this.#call(`/v1/inbox/${id}/${take ? 'take' : 'release'}`, {});
  }

  #set(change: Partial<DeviceView>): void {
    this.view = { ...this.view, ...change };
    for (const listener of this.#listeners) listener();
  }

  async #call(path: string, body: object): Promise<Message> {
    const answer = await fetch(this.service + path, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json', Authorization: `Bearer ${this.#token}` },
      body: JSON.stringify(body),
    });
    const json = answer.status === 204 ? null : await answer.json();
    if (!answer.ok) throw new Error(json?.detail ?? `the service answered ${answer.status}`);
    if (json?.totals) this.#totals(json.totals);
    return json;
  }

  async #open(): Promise<void> {
    const generation = ++this.#generation;
    clearTimeout(this.#timer);
    this.#set({ state: 'connecting', transport: null, tried: [] });
    try {
      const made = await fetch(`/api/token?user=${this.user}`, { method: 'POST' });
      this.#token = (await made.json()).token;
      if (this.view.cursor === null) await this.#loadInbox();
      if (generation !== this.#generation) return;
      await this.#openWebSocket(generation);
    } catch {
      this.#again(generation);
    }
  }

  /** What is there already, and the cursor to go on from. */
  async #loadInbox(): Promise<void> {
    const answer = await fetch(`${this.service}/v1/inbox?limit=50`, {
      headers: { Authorization: `Bearer ${this.#token}` },
    });
    const inbox: Message = await answer.json();
    this.#set({
      items: inbox.items.map((item: Message) => ({ ...item, unread: item.state.read === null })),
      cursor: inbox.cursor,
    });
    this.#resume = inbox.cursor;
    this.#totals(inbox.totals);
  }

  async #query(): Promise<string> {
    const { ticket } = await this.#call('/v1/tickets', {});
    const query = new URLSearchParams({
      ticket,
      device: `crew-${this.user}-${this.label}`,
      label: this.label,
      heartbeat: 'event',
    });
    if (this.#resume) query.set('after', this.#resume);
    return query.toString();
  }

  async #openWebSocket(generation: number): Promise<void> {
    const query = await this.#query();
    if (generation !== this.#generation) return;
    const base = this.webSocketBlocked ? `${location.origin}/no-websockets` : this.service;
    const socket = new WebSocket(`${base.replace(/^http/, 'ws')}/v1/live?${query}`, 'rovett.v1');
    this.#socket = socket;
    let opened = false;
    socket.onmessage = (event) => {
      if (!opened) this.#set({ transport: 'WebSocket', tried: [...this.view.tried, 'WebSocket: open'] });
      opened = true;
      this.#take(JSON.parse(event.data));
    };
    socket.onclose = () => {
      if (generation !== this.#generation) return;
      if (opened) return this.#again(generation);
      this.#set({ tried: [...this.view.tried, 'WebSocket: the upgrade failed'] });
      void this.#openStream(generation).catch(() => this.#again(generation));
    };
  }

  async #openStream(generation: number): Promise<void> {
    const query = await this.#query();
    if (generation !== this.#generation) return;
    const stream = new EventSource(`${this.service}/v1/live?${query}`);
    this.#stream = stream;
    const kinds = [
      'opened',
      'current',
      'notification',
      'withdrawn',
      'expired',
      'replaced',
      'taken',
      'released',
      'totals',
      'read',
      'channels',
      'gap',
      'ackDue',
      'done',
      'ending',
      'heartbeat',
    ];
    for (const kind of kinds) {
      stream.addEventListener(kind, (event) => {
        if (kind === 'opened')
          this.#set({ transport: 'server-sent events', tried: [...this.view.tried, 'server-sent events: open'] });
        this.#take(JSON.parse((event as MessageEvent<string>).data));
      });
    }
    stream.onerror = () => {
      if (generation === this.#generation) this.#again(generation);
    };
  }

  #again(generation: number): void {
    if (generation !== this.#generation || !this.#wanted) return;
    this.#drop();
    this.#set({ state: 'connecting', transport: null });
    const wait = Math.min(8000, 300 * 2 ** this.#failures++) * (0.5 + Math.random() / 2);
    this.#timer = window.setTimeout(() => void this.#open(), wait);
  }

  #drop(): void {
    this.#generation++;
    clearTimeout(this.#timer);
    clearTimeout(this.#ackTimer);
    this.#ackTimer = 0;
    this.#toAck = null;
    this.#socket?.close();
    this.#stream?.close();
    this.#socket = null;
    this.#stream = null;
  }

  #take(message: Message): void {
    if (message.totals) this.#totals(message.totals);
    if (message.cursor) this.#set({ cursor: message.cursor });
    if (message.cursor && message.kind === 'notification') {
      if (!this.#unconfirmed.some((u) => u.id === message.id))
        this.#unconfirmed.push({ id: message.id, cursor: message.cursor });
    } else if (message.cursor && this.#unconfirmed.length === 0) this.#resume = message.cursor;
    switch (message.kind) {
      case 'opened':
        this.#session = message.session;
        this.#failures = 0;
        this.#set({ state: 'catching up', channels: message.channels, reconnects: this.view.reconnects + 1 });
        break;
      case 'current':
        this.#set({ state: 'live' });
        break;
      case 'channels':
        this.#set({ channels: message.channels });
        break;
      case 'notification':
        this.#notification(message);
        break;
      case 'withdrawn':
      case 'expired':
      case 'replaced':
      case 'taken':
      case 'released':
        this.#changed(message);
        break;
      case 'read':
        this.#markLocally(message.all || message.upTo || message.subject ? null : message.ids);
        break;
      case 'done':
        this.#confirmed(message.requestId);
        break;
      case 'ackDue':
        this.#ack();
        break;
    }
  }

  /** What became of a notification: it leaves the list, or comes back into it. */
  #changed(message: Message): void {
    const listed = this.view.items.some((item) => item.id === message.id);
    const mine = message.kind === 'taken' && message.by === this.user;
    if (message.kind === 'released' && !listed)
      this.#set({ items: [{ ...message, unread: true }, ...this.view.items].slice(0, 60) });
    else if (message.kind === 'released' || mine)
      this.#set({ items: this.view.items.map((i) => (i.id === message.id ? { ...i, taken: mine } : i)) });
    else this.#set({ items: this.view.items.filter((item) => item.id !== message.id) });
    this.#totals({ unread: message.unread, asOf: message.time, rev: message.rev });
  }

  #notification(message: Message): void {
    if (!message.cursor) return; // not stored: nothing to list or count
    if (!this.view.items.some((item) => item.id === message.id)) {
      const item: Item = { ...message, unread: true };
      this.#set({ items: [item, ...this.view.items].slice(0, 60), newest: item });
    }
    this.#totals({ unread: message.unread, asOf: message.time, rev: message.rev });
    this.#toAck = message.cursor;
    if (++this.#ackCount >= ackEvery) this.#ack();
    else if (this.#ackTimer === 0) this.#ackTimer = window.setTimeout(() => this.#ack(), ackWithinMs);
  }

  #ack(): void {
    clearTimeout(this.#ackTimer);
    this.#ackTimer = 0;
    this.#ackCount = 0;
    if (this.#toAck === null) return;
    // The request's name is the cursor, so that its answer says what it is about.
    const upTo = this.#toAck;
    const message = { kind: 'ack', upTo, handled: true, requestId: upTo };
    this.#toAck = null;
    if (this.#socket?.readyState === WebSocket.OPEN) this.#socket.send(JSON.stringify(message));
    else if (this.#stream)
      void this.#call(`/v1/live/${this.#session}`, message).then(
        () => this.#confirmed(upTo),
        () => undefined,
      );
  }

  #confirmed(upTo: string): void {
    const index = this.#unconfirmed.findIndex((u) => u.cursor === upTo);
    if (index < 0) return;
    this.#unconfirmed.splice(0, index + 1);
    this.#resume = this.#unconfirmed.length === 0 ? this.view.cursor : upTo;
  }

  /** Totals are absolute; older ones than those shown are dropped. */
  #totals(totals: Totals): void {
    if (totals.asOf < this.#shown.asOf || totals.rev < this.#shown.rev) return;
    this.#shown = totals;
    this.#set({ unread: totals.unread });
  }

  #markLocally(ids: string[] | null): void {
    this.#set({
      items: this.view.items.map((item) => (ids === null || ids.includes(item.id) ? { ...item, unread: false } : item)),
      newest: null,
    });
  }
}
