import { type Message, type Problem, problemOf, type Transport } from './messages.js';

/** Why a link ended. */
export interface Trouble {
  why: string;
  /** The service refused, and said why. */
  problem?: Problem;
}

/** What a link tells. Nothing is told after `closed`, or after the link was closed from here. */
export interface LinkEvents {
  message(message: Message): void;
  /** Bytes came, if only a sign of life. */
  alive(): void;
  closed(trouble: Trouble): void;
}

/** Where to connect to. */
export interface Place {
  /** The service's address, without `/v1`. */
  url: string;
  query: URLSearchParams;
  token: string;
  fetch: typeof globalThis.fetch;
  WebSocket: typeof globalThis.WebSocket | undefined;
}

/** One connection. */
export interface Link {
  readonly transport: Transport;
  /** It is another tab's. */
  readonly through?: 'another tab';
  /** Sends messages; answers come as messages. Rejects when they can't be sent now. */
  send(messages: object[]): Promise<void>;
  close(): void;
}

const pollSeconds = 25;

export function open(transport: Transport, place: Place, events: LinkEvents): Link {
  let isOpen = true;
  const guarded: LinkEvents = {
    message: (m) => isOpen && events.message(m),
    alive: () => isOpen && events.alive(),
    closed: (trouble) => {
      if (!isOpen) return;
      isOpen = false;
      events.closed(trouble);
    },
  };
  const link = transport === 'websocket' ? socket(place, guarded) : streamed(transport, place, guarded);
  return {
    transport,
    send: link.send,
    close: () => {
      isOpen = false;
      link.close();
    },
  };
}

function socket(place: Place, events: LinkEvents): Omit<Link, 'transport'> {
  if (!place.WebSocket) {
    queueMicrotask(() => events.closed({ why: 'no WebSocket here' }));
    return { send: () => Promise.reject(new Error('not connected')), close: () => undefined };
  }
  const it = new place.WebSocket(`${place.url.replace(/^http/, 'ws')}/v1/live?${place.query}`, 'rovett.v1');
  let refused: Problem | undefined;
  let was = false;
  // A browser's WebSocket has no headers: the token is the first message.
  it.onopen = () => {
    was = true;
    it.send(JSON.stringify({ kind: 'renew', token: place.token }));
  };
  it.onmessage = (event) => {
    events.alive();
    const message: Message = JSON.parse(event.data);
    if (message.kind === 'refused' && !message.requestId) refused = message.problem;
    else events.message(message);
  };
  // Not every WebSocket says that it is closed when it never was open.
  it.onerror = () => was || events.closed({ why: 'the upgrade failed' });
  it.onclose = (event) =>
    events.closed({
      why: refused?.title ?? (was ? `closed (${event.code})` : 'the upgrade failed'),
      problem: refused,
    });
  return {
    send: async (messages) => {
      if (it.readyState !== 1) throw new Error('not connected');
      for (const message of messages) it.send(JSON.stringify(message));
    },
    close: () => it.close(),
  };
}

/** A stream, or requests that wait: what they have in common is that the device posts beside them. */
function streamed(transport: 'sse' | 'long-poll', place: Place, events: LinkEvents): Omit<Link, 'transport'> {
  const stop = new AbortController();
  let session = '';
  const take = (message: Message) => {
    if (message.kind === 'opened') session = message.session;
    events.message(message);
  };
  const request = (path: string, init: RequestInit & { headers: Record<string, string> }): Promise<Response> => {
    init.headers.Authorization = `Bearer ${place.token}`;
    return place.fetch(place.url + path, { cache: 'no-store', signal: stop.signal, ...init });
  };
  const run = transport === 'sse' ? stream : poll;
  run().catch((error) => events.closed(trouble(error)));
  return {
    send: async (messages) => {
      if (!session) throw new Error('not connected');
      const answer = await request(`/v1/live/${session}`, {
        method: 'POST',
        headers: { 'Content-Type': 'application/json' },
        body: JSON.stringify(messages),
        keepalive: true,
      });
      if (answer.status === 200 || answer.status === 422) {
        const answers = await answer.json();
        if (Array.isArray(answers)) return answers.forEach(events.message);
      }
      if (answer.status !== 204) throw new Error(`the answer was ${answer.status}`);
    },
    close: () => stop.abort(),
  };

  async function stream(): Promise<void> {
    const answer = await request(`/v1/live?${place.query}`, { headers: { Accept: 'text/event-stream' } });
    if (answer.status !== 200 || !answer.body) throw new Refused(await problemOf(answer));
    let rest = '';
    const text = new TextDecoder();
    const reader = answer.body.getReader();
    for (;;) {
      const { done, value } = await reader.read();
      if (done) return events.closed({ why: 'the stream ended' });
      events.alive();
      const lines = (rest + text.decode(value, { stream: true })).split('\n');
      rest = lines.pop() ?? '';
      // Each event has one line of data; the names and ids say nothing that is not in it.
      for (const line of lines) if (line.startsWith('data: ')) take(JSON.parse(line.slice(6)));
    }
  }

  async function poll(): Promise<void> {
    for (let turn = 0, failed = 0; ; ) {
      let answer: Response;
      try {
        answer = await request(turn ? `/v1/live/${session}?turn=${turn}` : `/v1/live?${place.query}`, {
          headers: { Accept: 'application/json', Prefer: `wait=${turn ? pollSeconds : 0}` },
          signal: AbortSignal.any([stop.signal, AbortSignal.timeout((pollSeconds + 15) * 1000)]),
        });
        if (answer.status >= 500) throw new Refused(await problemOf(answer));
      } catch (error) {
        // Its answer may have been lost: the same turn gives it again.
        if (turn === 0 || ++failed > 2 || stop.signal.aborted) throw error;
        continue;
      }
      if (answer.status !== 200) throw new Refused(await problemOf(answer));
      const messages: Message[] = await answer.json();
      failed = 0;
      turn++;
      events.alive();
      messages.forEach(take);
      if (messages.at(-1)?.kind === 'ending') return events.closed({ why: 'the service ended it' });
    }
  }
}

class Refused extends Error {
  constructor(readonly problem: Problem) {
    super(problem.title);
  }
}

function trouble(error: unknown): Trouble {
  const { problem } = error as Refused;
  // What stands between may answer what it likes; only the service's own problems are refusals.
  return {
    why: String((error as Error)?.message ?? error),
    problem: problem?.type.startsWith('urn:') ? problem : undefined,
  };
}
