import type { Message } from './messages.js';
import { type Readable, Value } from './value.js';

/** Somebody who is on a topic or role now. */
export interface Person {
  user: string;
  displayName?: string;
  /** What the backend lets others be shown of the user. */
  profile?: unknown;
  since: string;
}

/** Who is on a topic or role now. */
export interface PresenceView {
  /** How many; null while it is not known. */
  count: number | null;
  /** Who; null while it is not known, where only the number is shown, and where there are too many. */
  people: readonly Person[] | null;
  /** Why nothing is shown. */
  error?: Error;
}

export const nobodyKnown: PresenceView = { count: null, people: null };

/** What is shown after a message. */
export function afterwards({ people }: PresenceView, message: Message): PresenceView {
  if (message.ended) return { ...nobodyKnown, error: new Error('no longer shown') };
  const { count, left, arrived } = message;
  const kept = arrived && people?.filter((p) => !left.includes(p.user));
  return { count, people: message.people ?? (kept ? [...kept, ...arrived] : null) };
}

/** Who is on the topics and roles that are looked at. */
export class Presence {
  readonly #shown = new Map<string, { value: Value<PresenceView>; looking: Set<() => void> }>();
  readonly #ask: (kind: 'watch' | 'unwatch', address: string) => Promise<void>;

  constructor(ask: (kind: 'watch' | 'unwatch', address: string) => Promise<void>) {
    this.#ask = ask;
  }

  of(address: string): Readable<PresenceView> & { close(): void } {
    let shown = this.#shown.get(address);
    if (!shown) {
      shown = { value: new Value(nobodyKnown), looking: new Set() };
      this.#shown.set(address, shown);
      this.#watch(address);
    }
    const { value, looking } = shown;
    const close = () => {
      if (!looking.delete(close) || looking.size > 0) return;
      this.#shown.delete(address);
      this.#ask('unwatch', address).catch(() => undefined);
    };
    looking.add(close);
    return {
      get value() {
        return value.value;
      },
      subscribe: value.subscribe,
      close,
    };
  }

  /** A session began. */
  opened(): void {
    for (const address of this.#shown.keys()) this.#watch(address);
  }

  take(message: Message): void {
    const value = this.#shown.get(message.of)?.value;
    value?.set(afterwards(value.value, message));
  }

  #watch(address: string): void {
    this.#ask('watch', address).catch((error) => {
      // A lost connection asks again once it is back.
      if (error.problem) this.#shown.get(address)?.value.set({ ...nobodyKnown, error });
    });
  }
}
