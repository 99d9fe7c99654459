/** Something that changes, and can be listened to; fits React's `useSyncExternalStore`. */
export interface Readable<T> {
  /** What it is now. The same object as long as nothing changed. */
  readonly value: T;
  /** Calls back after each change, until the function it returns is called. */
  subscribe(listener: () => void): () => void;
}

export class Value<T> implements Readable<T> {
  #value: T;
  readonly #listeners = new Set<() => void>();

  constructor(first: T) {
    this.#value = first;
  }

  get value(): T {
    return this.#value;
  }

  set(next: T): void {
    if (Object.is(next, this.#value)) return;
    this.#value = next;
    for (const listener of [...this.#listeners]) listener();
  }

  subscribe = (listener: () => void): (() => void) => {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  };
}
