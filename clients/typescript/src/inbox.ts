import { type Notification, problemOf, RovettError, type Totals } from './messages.js';

/** An item of the inbox. */
export interface InboxItem<D = unknown> extends Omit<Notification<D>, 'kind'> {
  id: string;
  state: { received: string | null; read: string | null; muted?: boolean; taken?: boolean };
}

/** A page of the inbox, newest first. */
export interface InboxPage {
  items: InboxItem[];
  totals: Totals;
  cursor: string;
  /** Gets the page after it; missing on the last. */
  next?: () => Promise<InboxPage>;
}

/** Which notifications are meant. */
export type Which = { ids: string[] } | { upTo: string } | { subject: string } | { all: true };

/** Calls the service with the user's token; a token that has ended is replaced once. */
export type Call = <T>(
  method: string,
  path: string,
  body?: object,
  headers?: Record<string, string>,
) => Promise<{ json: T; answer: Response }>;

export function caller(url: string, fetcher: typeof fetch, token: (fresh: boolean) => Promise<string>): Call {
  return async <T>(method: string, path: string, body?: object, headers?: Record<string, string>) => {
    for (let fresh = false; ; fresh = true) {
      const answer = await fetcher(url + path, {
        method,
        headers: {
          Authorization: `Bearer ${await token(fresh)}`,
          ...(body && { 'Content-Type': 'application/json' }),
          ...headers,
        },
        body: body && JSON.stringify(body),
        keepalive: !!body, // a link that is followed is marked read, though the page goes
      });
      if (answer.status === 401 && !fresh) continue;
      if (!answer.ok) throw new RovettError(await problemOf(answer));
      return { json: (answer.status === 204 ? undefined : await answer.json()) as T, answer };
    }
  };
}

/** The user's inbox and what belongs to it, over HTTP: works without a live connection too. */
export class Inbox {
  #batch: { ids: string[]; items: Promise<InboxItem[]> } | undefined;

  constructor(
    readonly call: Call,
    readonly newer: (totals: Totals | undefined) => void,
  ) {}

  async #totals(method: string, path: string, body?: object): Promise<void> {
    this.newer((await this.call<{ totals?: Totals } | undefined>(method, path, body)).json?.totals);
  }

  /** A page, newest first. */
  async page(which: { state?: 'all' | 'unread' | 'read'; limit?: number } = {}): Promise<InboxPage> {
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(which)) if (value !== undefined) query.set(name, String(value));
    return this.#page(`/v1/inbox?${query}`);
  }

  async #page(path: string): Promise<InboxPage> {
    const { json, answer } = await this.call<InboxPage>('GET', path);
    this.newer(json.totals);
    const next = /<[^>]*?(\/v1\/inbox[^>]*)>; *rel="next"/.exec(answer.headers.get('Link') ?? '')?.[1];
    return next ? { ...json, next: () => this.#page(next) } : json;
  }

  /** Some items, at most 100; those that are gone are left out. */
  async items(ids: readonly string[]): Promise<InboxItem[]> {
    return (await this.call<InboxPage>('GET', `/v1/inbox?ids=${ids}`)).json.items;
  }

  /** All of a notification of which a part came, fetched with others that come at the same time; undefined when it is gone. */
  async whole(part: Notification): Promise<Notification | undefined> {
    const { id = '' } = part;
    if ((this.#batch?.ids.length ?? 100) >= 100) {
      const ids: string[] = [];
      const made = {
        ids,
        items: new Promise((r) => setTimeout(r, 20)).then(() => {
          if (this.#batch === made) this.#batch = undefined;
          return this.items(ids);
        }),
      };
      this.#batch = made;
    }
    const { ids, items } = this.#batch as { ids: string[]; items: Promise<InboxItem[]> };
    ids.push(id);
    const found = (await items).find((i) => i.id === id);
    return found && { ...part, ...found, kind: part.kind, cursor: part.cursor, carry: undefined };
  }

  /** One item. */
  async item(id: string): Promise<InboxItem> {
    return (await this.call<InboxItem>('GET', `/v1/inbox/${encodeURIComponent(id)}`)).json;
  }

  markRead(which: Which): Promise<void> {
    return this.#totals('POST', '/v1/inbox/marks', { read: which });
  }

  markUnread(which: Which): Promise<void> {
    return this.#totals('POST', '/v1/inbox/marks', { unread: which });
  }

  /** Takes a job over from everybody else who has it. Rejects with 409 when somebody was quicker. */
  take(id: string): Promise<void> {
    return this.#totals('POST', `/v1/inbox/${encodeURIComponent(id)}/take`, {});
  }

  release(id: string): Promise<void> {
    return this.#totals('POST', `/v1/inbox/${encodeURIComponent(id)}/release`, {});
  }

  async follows(): Promise<{ topic: string; active: boolean }[]> {
    return (await this.call<{ follows: { topic: string; active: boolean }[] }>('GET', '/v1/follows')).json.follows;
  }

  /** From now on what comes on the topic is in the inbox, counted, and caught up with. */
  follow(topic: string): Promise<void> {
    return this.#totals('POST', '/v1/follows', { topic });
  }

  unfollow(topic: string): Promise<void> {
    return this.#totals('DELETE', `/v1/follows?${new URLSearchParams({ topic })}`);
  }

  async mutes(): Promise<{ type?: string; subject?: string; since: string }[]> {
    return (await this.call<{ mutes: { type?: string; subject?: string; since: string }[] }>('GET', '/v1/mutes')).json
      .mutes;
  }

  /** What comes from now on of a type, or about a subject, rings nowhere and is not counted. */
  mute(what: { type: string } | { subject: string }): Promise<void> {
    return this.#totals('POST', '/v1/mutes', what);
  }

  unmute(what: { type: string } | { subject: string }): Promise<void> {
    return this.#totals('DELETE', `/v1/mutes?${new URLSearchParams(what)}`);
  }
}
