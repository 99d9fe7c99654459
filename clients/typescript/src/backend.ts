import { type Problem, problemOf, RovettError } from './messages.js';

export { type Problem, RovettError } from './messages.js';

/** How a backend reaches the service. */
export interface BackendOptions {
  /** The service's address; with `/s/<space>` for another space than main. */
  url: string;
  /** An API key with the scope `send`. */
  key: string;
  /** How often a call that can't be taken now is tried again; the pauses double from 0.2 s to 10 s. Default 8. */
  retries?: number;
}

/** A notification to send: docs/protocol.md. */
export interface BackendNotification {
  /** `user:<id>`, `role:<name>`, `topic:<path>` or `everyone`. */
  to: string[];
  except?: string[];
  type: string;
  title: string;
  subject?: string;
  body?: string;
  link?: string;
  urgency?: 'very-low' | 'low' | 'normal' | 'high';
  data?: unknown;
  /** Seconds, or a duration such as `2h`. */
  ttl?: number | string;
  slot?: string;
  store?: boolean;
  /** True, or a duration such as `30m`. */
  takeable?: boolean | string;
  /** What is sent to devices; the rest they fetch from the inbox. Default full. */
  carry?: 'full' | 'summary' | 'reference';
  /** People are always told of it: mutes and quiet hours don't apply. */
  always?: boolean;
  deadlines?: { by?: string; within: string; who?: string; otherwise?: Otherwise | Otherwise[] }[];
}

/** What is done when a deadline is missed: another notification, a webhook by its name, or an e-mail. */
export type Otherwise =
  | Omit<BackendNotification, 'ttl' | 'slot' | 'store' | 'takeable' | 'deadlines'>
  | { webhook: string }
  | { email: string; title?: string; body?: string };

/** Something that happened: an event of CloudEvents 1.0. Rules make notifications of it. */
export interface BackendEvent {
  /** Where it happened: a URI-reference. */
  source: string;
  type: string;
  /** Unique within the source; a new one when left out. A repeat with the same content is taken once. */
  id?: string;
  subject?: string;
  /** RFC 3339. */
  time?: string;
  data?: unknown;
  /** Extension attributes: names of a–z and 0–9. */
  [extension: string]: unknown;
}

/** A notification that was sent. */
export interface Sent {
  id: string;
  position: number;
  /** It had been sent before with the same idempotency key. */
  repeated: boolean;
}

/** What came of an event. */
export interface Published {
  /** The rules that matched. */
  matched: string[];
  notifications: { id: string; rule: string }[];
  gathering?: { id: string; rule: string; until: string }[];
  setAside?: { number: number; rules: { rule: string; reason: string }[] };
  repeated: boolean;
  nearest?: string;
}

/** Opens one connection in place of a token: in a URL, or for a device that can't keep a token. */
export interface Ticket {
  ticket: string;
  opensWithinSeconds: number;
  /** When the connection ends: with the token it was made from. */
  expires: string;
}

/** The result of one of many: what came of it, or why it was refused. */
export type Outcome<T> = { value: T; error?: undefined } | { value?: undefined; error: RovettError };

const mostAtOnce = 1000;

/** The backend's side: sends, and publishes events. Needs nothing but `fetch`. */
export class Backend {
  readonly #url: string;
  readonly #options: BackendOptions;

  constructor(options: BackendOptions) {
    if (!options.url) throw new TypeError("url is missing: the service's address, such as http://127.0.0.1:7411");
    if (!options.key) throw new TypeError("key is missing: an API key with the scope 'send'");
    this.#url = options.url.replace(/\/+$/, '');
    this.#options = options;
  }

  /**
   * Sends a notification. When this returns, it is on disk. Failures are retried and never stored twice.
   * @param options `idempotencyKey`: repeats with it within 48 h are stored once. `session`: the live session of the user
   * who caused it, which is not sent it.
   * @throws RovettError when it was refused, or every retry failed.
   */
  async send(
    notification: BackendNotification,
    options: { idempotencyKey?: string; session?: string } = {},
  ): Promise<Sent> {
    const headers: Record<string, string> = { 'Content-Type': 'application/json' };
    if (notification.store !== false) headers['Idempotency-Key'] = options.idempotencyKey ?? crypto.randomUUID();
    if (options.session) headers['Rovett-Session'] = options.session;
    return (await this.#call('POST', '/v1/notifications', JSON.stringify(notification), headers)) as Sent;
  }

  /** Withdraws a notification, or drops the gathering that an id was drawn for. */
  async withdraw(id: string): Promise<void> {
    await this.#call('DELETE', `/v1/notifications/${encodeURIComponent(id)}`);
  }

  /**
   * Publishes an event. When this returns, its notifications are on disk.
   * @throws RovettError when it was refused, or every retry failed.
   */
  async publish(event: BackendEvent): Promise<Published> {
    const headers = { 'Content-Type': 'application/cloudevents+json' };
    return (await this.#call('POST', '/v1/events', JSON.stringify(complete(event)), headers)) as Published;
  }

  /**
   * Publishes many events in order, up to 1,000 in a request.
   * @returns The result of each, in the order given. A refused one does not affect the others.
   */
  async publishMany(events: Iterable<BackendEvent>): Promise<Outcome<Published>[]> {
    const all = [...events].map(complete);
    const outcomes: Outcome<Published>[] = [];
    for (let from = 0; from < all.length; from += mostAtOnce) {
      const lines = all.slice(from, from + mostAtOnce).map((e) => JSON.stringify(e));
      const headers = { 'Content-Type': 'application/x-ndjson' };
      const answer = (await this.#call('POST', '/v1/events', lines.join('\n'), headers, passingOf)) as Results;
      for (const { outcome, problem } of answer.results) {
        outcomes.push(problem ? { error: new RovettError(problem) } : { value: outcome as Published });
      }
    }
    return outcomes;
  }

  /**
   * Asks for a ticket for a user.
   * @param token A token of the user, as your own code signs it (docs/backends.md). The API key is not used.
   * @throws RovettError when the token was refused, or every retry failed.
   */
  async ticket(token: string): Promise<Ticket> {
    return (await this.#call('POST', '/v1/tickets', undefined, { Authorization: `Bearer ${token}` })) as Ticket;
  }

  async #call(
    method: string,
    path: string,
    body?: string,
    headers: Record<string, string> = {},
    passing: (answer: unknown) => Problem | undefined = () => undefined,
  ): Promise<unknown> {
    const retries = this.#options.retries ?? 8;
    for (let attempt = 0; ; attempt++) {
      let problem: Problem | undefined;
      let wait = Math.min(10_000, 200 * 2 ** attempt) * (1 + Math.random() / 4);
      try {
        const answer = await fetch(this.#url + path, {
          method,
          body,
          headers: { Authorization: `Bearer ${this.#options.key}`, ...headers },
        });
        if (answer.ok) {
          const json: unknown = answer.status === 204 ? undefined : await answer.json();
          problem = passing(json);
          if (!problem || attempt >= retries) return json;
        } else {
          problem = await problemOf(answer);
          wait = Math.max(wait, Number(answer.headers.get('Retry-After') ?? 0) * 1000);
          if (![429, 502, 503, 504].includes(answer.status)) throw new RovettError(problem);
        }
      } catch (error) {
        if (error instanceof RovettError || attempt >= retries) throw error; // otherwise not reached
      }
      if (attempt >= retries) throw new RovettError(problem as Problem);
      await new Promise((r) => setTimeout(r, wait));
    }
  }
}

interface Results {
  results: { outcome?: Published; problem?: Problem }[];
}

/** What is worth another attempt: all of the request is sent again, and what was taken is recognised. */
const passingOf = (answer: unknown): Problem | undefined =>
  (answer as Results).results.find((r) => r.problem && [429, 503].includes(r.problem.status))?.problem;

const complete = (event: BackendEvent): BackendEvent => ({
  ...event,
  specversion: '1.0',
  id: event.id ?? crypto.randomUUID(),
});
