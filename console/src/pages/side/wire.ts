import type { Transport } from 'rovett';

/** What may go wrong with a connection. */
export interface Faults {
  cut: boolean;
  slow: boolean;
  blockWebSocket: boolean;
  holdStreams: boolean;
}

export const noFaults: Faults = { cut: false, slow: false, blockWebSocket: false, holdStreams: false };

/** A message as it passed. */
export interface Passed {
  number: number;
  time: number;
  way: 'to the device' | 'from the device';
  transport: Transport;
  text: string;
}

const slowBy = 2000;
let numbers = 0;

/** The network between one device and the service, as a switchboard: what passes is told, and can be hindered. */
export class Wire {
  #faults = noFaults;
  #tail = 0;
  #release: (() => void) | null = null;
  #held: Promise<void> = Promise.resolve();
  readonly #sockets = new Set<TappedSocket>();
  readonly #requests = new Set<AbortController>();

  constructor(readonly onPassed: (passed: Passed) => void) {}

  get faults(): Faults {
    return this.#faults;
  }

  set(faults: Faults): void {
    const before = this.#faults;
    this.#faults = faults;
    if (faults.cut || (faults.blockWebSocket && !before.blockWebSocket)) {
      for (const socket of [...this.#sockets]) socket.fail();
    }
    if (faults.cut) for (const request of [...this.#requests]) request.abort();
    if (faults.holdStreams && !before.holdStreams) {
      this.#held = new Promise((resolve) => {
        this.#release = resolve;
      });
    } else if (!faults.holdStreams) this.#release?.();
  }

  tell(way: Passed['way'], transport: Transport, text: string): void {
    this.onPassed({ number: ++numbers, time: Date.now(), way, transport, text });
  }

  /** Hands something on, later if the line is slow; never before what came earlier. */
  pass(hand: () => void): void {
    const now = Date.now();
    this.#tail = Math.max(this.#tail, now + (this.#faults.slow ? slowBy : 0));
    if (this.#tail <= now) hand();
    else setTimeout(hand, this.#tail - now);
  }

  #wait(): Promise<void> {
    return new Promise((resolve) => this.pass(resolve));
  }

  readonly fetch: typeof globalThis.fetch = async (input, init) => {
    if (this.#faults.cut) throw new TypeError('the connection is cut');
    const isLive = String(input).includes('/v1/live');
    const stop = new AbortController();
    this.#requests.add(stop);
    const signal = init?.signal ? AbortSignal.any([init.signal, stop.signal]) : stop.signal;
    if (this.#faults.slow) await this.#wait();
    if (isLive && typeof init?.body === 'string') {
      const transport = this.#streams > 0 ? 'sse' : 'long-poll';
      for (const message of JSON.parse(init.body)) this.tell('from the device', transport, JSON.stringify(message));
    }
    const answer = await fetch(input, { ...init, signal });
    const isStream = answer.headers.get('content-type')?.startsWith('text/event-stream');
    if (isLive && isStream && answer.body) return this.#streamed(answer, stop);
    this.#requests.delete(stop);
    if (isLive && init?.method !== 'POST' && answer.ok) {
      const messages = await answer.clone().json();
      for (const message of messages) this.tell('to the device', 'long-poll', JSON.stringify(message));
    }
    return answer;
  };

  #streams = 0;

  /** An event stream with a tap: each event is told as it is handed on. */
  #streamed(answer: Response, stop: AbortController): Response {
    const text = new TextDecoder();
    let rest = '';
    this.#streams++;
    const done = () => {
      this.#streams--;
      this.#requests.delete(stop);
    };
    stop.signal.addEventListener('abort', done, { once: true });
    const tapped = (answer.body as ReadableStream<Uint8Array>).pipeThrough(
      new TransformStream<Uint8Array, Uint8Array>({
        transform: async (chunk, out) => {
          await this.#held;
          await this.#wait();
          const lines = (rest + text.decode(chunk, { stream: true })).split('\n');
          rest = lines.pop() ?? '';
          for (const line of lines) if (line.startsWith('data: ')) this.tell('to the device', 'sse', line.slice(6));
          out.enqueue(chunk);
        },
        flush: done,
      }),
    );
    return new Response(tapped, { status: answer.status, headers: answer.headers });
  }

  /** A WebSocket class whose sockets run over this wire. */
  get WebSocket(): typeof globalThis.WebSocket {
    const { open } = this;
    return function Tapped(url: string, protocol: string) {
      return open(url, protocol);
    } as unknown as typeof globalThis.WebSocket;
  }

  readonly open = (url: string, protocol: string): TappedSocket => {
    const isBlocked = this.#faults.cut || this.#faults.blockWebSocket;
    const socket = new TappedSocket(this, isBlocked ? null : new WebSocket(url, protocol), () =>
      this.#sockets.delete(socket),
    );
    this.#sockets.add(socket);
    return socket;
  };
}

/** As much of a WebSocket as the client uses. */
class TappedSocket {
  onopen: (() => void) | null = null;
  onmessage: ((event: { data: string }) => void) | null = null;
  onerror: (() => void) | null = null;
  onclose: ((event: { code: number }) => void) | null = null;
  readonly #wire: Wire;
  readonly #inner: WebSocket | null;
  readonly #gone: () => void;
  #isOver = false;

  constructor(wire: Wire, inner: WebSocket | null, gone: () => void) {
    [this.#wire, this.#inner, this.#gone] = [wire, inner, gone];
    if (!inner) {
      setTimeout(() => this.fail());
      return;
    }
    inner.onopen = () => wire.pass(() => this.#isOver || this.onopen?.());
    inner.onmessage = ({ data }) =>
      wire.pass(() => {
        if (this.#isOver) return;
        wire.tell('to the device', 'websocket', data);
        this.onmessage?.({ data });
      });
    inner.onerror = () => this.onerror?.();
    inner.onclose = ({ code }) => wire.pass(() => this.#end(code));
  }

  get readyState(): number {
    return this.#isOver ? 3 : (this.#inner?.readyState ?? 3);
  }

  send(text: string): void {
    this.#wire.pass(() => {
      if (this.#inner?.readyState !== 1) return;
      // The first message has the credential.
      const isToken = text.includes('"kind":"renew"');
      this.#wire.tell('from the device', 'websocket', isToken ? '{"kind":"renew"}' : text);
      this.#inner.send(text);
    });
  }

  close(): void {
    this.#inner?.close();
    this.#end(1000);
  }

  /** Breaks it, as a network does. */
  fail(): void {
    if (this.#isOver) return;
    this.#inner?.close();
    this.onerror?.();
    this.#end(1006);
  }

  #end(code: number): void {
    if (this.#isOver) return;
    this.#isOver = true;
    this.#gone();
    this.onclose?.({ code });
  }
}
