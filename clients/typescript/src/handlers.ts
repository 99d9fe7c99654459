import type { Handler } from './options.js';

/** Who handles which notifications. */
export class Handlers {
  readonly #byType = new Map<string, Set<Handler>>();
  readonly #others = new Set<Handler>();

  on(type: string, handler: Handler): () => void {
    const set = this.#byType.get(type) ?? new Set();
    this.#byType.set(type, set.add(handler));
    return () => set.delete(handler);
  }

  otherwise(handler: Handler): () => void {
    this.#others.add(handler);
    return () => this.#others.delete(handler);
  }

  /** Those of a type, or else those for the rest. */
  of(type: string): Handler[] {
    const found: Handler[] = [];
    for (const [pattern, handlers] of this.#byType)
      if (pattern === type || (pattern.endsWith('*') && type.startsWith(pattern.slice(0, -1)))) found.push(...handlers);
    return found.length > 0 ? found : [...this.#others];
  }
}
