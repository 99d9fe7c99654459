import type { Tried } from './ladder.js';
import type { Notification, Problem, Transport } from './messages.js';

/** How to connect. Only `url` and `token` are needed. */
export interface LiveOptions {
  /** The service's address: `https://notify.example`, with `/s/<space>` for another space than main. */
  url: string;
  /** Gives a token of the user. Called for the first connection, and whenever the one before has ended or was refused. What it throws, and
   * what it gives that is no token, is told by `state` (`why`) and `report`, and it is called again after a pause. See `tokenFrom`. */
  token: () => string | Promise<string>;
  /** The device's own id, kept between visits; otherwise the service names one. */
  device?: string;
  /** What the device calls itself, for operators and receipts. */
  label?: string;
  /** A cursor to go on from, `now`, or nothing: all that no device of the user has received. */
  after?: string;
  /** The transports to use, best first. */
  transports?: readonly Transport[];
  /** Milliseconds until the next transport is tried beside one that has not opened yet. */
  staggerMs?: number;
  /** Bounds of the pause between attempts, in milliseconds; it is drawn from between half and all of a pause that doubles. */
  retryMs?: { min?: number; max?: number };
  /** Milliseconds until a better transport than the present one is tried again. */
  upgradeMs?: number;
  /** Hears of what goes wrong: a handler that threw, a notification that nothing handles. Otherwise the console does. */
  report?: (what: string, about?: unknown) => void;
  fetch?: typeof globalThis.fetch;
  WebSocket?: typeof globalThis.WebSocket;
}

/** How the connection stands. */
export interface LiveState {
  /** `refused`: by the service, see `why` and `problem`; `reconnect()` tries again. `offline`: the next attempt is waited for. */
  phase: 'connecting' | 'catching up' | 'live' | 'offline' | 'refused' | 'closed';
  transport: Transport | null;
  /** The connection is another tab's, which gives this one what comes. */
  through?: 'another tab';
  /** What was tried last, for this connection or for a better one, and how it went. */
  tried: readonly Tried[];
  /** How often the connection was made anew. */
  reconnects: number;
  /** Why it is offline or refused. */
  why?: string;
  problem?: Problem;
}

/** Takes a notification. It is acknowledged as handled once this returned, or the promise it returned is fulfilled; when it
 * throws, the notification comes again a little later. */
export type Handler<D = unknown> = (notification: Notification<D>) => unknown;
