import type { Notification } from './messages.js';

/** A stored notification that came, until the service says it knows that it is here. */
interface Kept {
  id: string;
  cursor: string;
  /** `known`: acknowledged by name, while one before it is not handled. */
  state: 'waiting' | 'done' | 'failed' | 'known';
}

interface Ack {
  kind: 'ack';
  upTo?: string;
  ids?: string[];
  handled: true;
  requestId: string;
}

/** What of the notifications that came is handled, what the service knows of that, and where to go on after a cut. */
export class Intake {
  #kept: Kept[] = [];
  #resume: string | null;
  #asked = new Map<string, Pick<Ack, 'upTo' | 'ids'>>();
  #requests = 0;
  #dueCount = 0;
  #dueSince = 0;
  /** Handled here (without a cursor: handed out), whatever the service knows of it: a restored store sends again what it has forgotten. */
  #handled = new Set<string>();

  constructor(resume: string | null) {
    this.#resume = resume;
  }

  /** The cursor up to which the service knows that everything was handled here. */
  get resume(): string | null {
    return this.#resume;
  }

  /** How many acknowledgements are not answered. */
  get asked(): number {
    return this.#asked.size;
  }

  /** How many are handled and not acknowledged. */
  get due(): number {
    return this.#dueCount;
  }

  /** When the first of them was handled. */
  get dueSince(): number {
    return this.#dueSince;
  }

  /** A session began: what was asked in the one before is no longer answered. */
  opened(cursor: string): void {
    this.#asked.clear();
    this.#dueCount = 0;
    this.#resume ??= cursor;
    // It is sent again what the service does not know up to here; only that can be acknowledged in this session.
    for (const kept of this.#kept) if (kept.state === 'known') kept.state = 'done';
  }

  /** A notification came. False: it was handed out before, and is only to be acknowledged anew. */
  came(notification: Notification): boolean {
    const { id, cursor } = notification;
    if (!id) return true;
    if (!cursor) {
      // What a subscription is caught up with: it is not acknowledged, and comes again when that is cut short.
      if (this.#handled.has(id) || this.#kept.some((k) => k.id === id)) return false;
      this.#remember(id);
      return true;
    }
    const known = this.#kept.find((k) => k.id === id);
    if (!known) {
      const isNew = !this.#handled.has(id);
      this.#kept.push({ id, cursor, state: isNew ? 'waiting' : 'done' });
      if (!isNew) this.#isDue();
      return isNew;
    }
    if (known.state === 'failed') {
      known.state = 'waiting';
      return true;
    }
    if (known.state === 'done') this.#isDue();
    return false;
  }

  /** Something without a handler moved the cursor. */
  passed(cursor: string): void {
    if (this.#kept.length === 0) this.#resume = cursor;
  }

  /** The cursors are of another life of the store; this is one of the present. */
  forget(cursor: string): void {
    this.#kept = [];
    this.#resume = cursor;
    this.#asked.clear();
    this.#dueCount = 0;
  }

  handled(id: string, well: boolean): void {
    const kept = this.#kept.find((k) => k.id === id);
    if (!kept) return;
    kept.state = well ? 'done' : 'failed';
    if (!well) return;
    this.#isDue();
    this.#remember(id);
  }

  #remember(id: string): void {
    this.#handled.add(id);
    if (this.#handled.size > 4096) for (const oldest of this.#handled) return void this.#handled.delete(oldest);
  }

  #isDue(): void {
    if (this.#dueCount++ === 0) this.#dueSince = Date.now();
  }

  /** The messages that acknowledge all that is handled: up to the first that is not, and what is behind it by name. */
  acks(): Ack[] {
    const messages: Ack[] = [];
    this.#dueCount = 0;
    const first = this.#kept.findIndex((k) => k.state === 'waiting' || k.state === 'failed');
    const straight = first < 0 ? this.#kept.length : first;
    const upTo = this.#kept[straight - 1]?.cursor;
    if (upTo) messages.push(this.#ask({ upTo }));
    const asked = new Set([...this.#asked.values()].flatMap((a) => a.ids ?? []));
    const ids = this.#kept
      .slice(straight)
      .filter((k) => k.state === 'done' && !asked.has(k.id))
      .map((k) => k.id);
    if (ids.length > 0) messages.push(this.#ask({ ids }));
    return messages;
  }

  #ask(what: Pick<Ack, 'upTo' | 'ids'>): Ack {
    const requestId = `ack-${++this.#requests}`;
    this.#asked.set(requestId, what);
    return { kind: 'ack', ...what, handled: true, requestId };
  }

  /** An answer came. True when it was to an acknowledgement: it is stored, or never will be, or is to be asked again. */
  answered(requestId: string | undefined, again: boolean): boolean {
    const what = requestId && this.#asked.get(requestId);
    if (!what) return false;
    this.#asked.delete(requestId);
    if (again) {
      this.#isDue();
      return true;
    }
    for (const kept of this.#kept) if (kept.state === 'done' && what.ids?.includes(kept.id)) kept.state = 'known';
    const at = this.#kept.findIndex((k) => k.cursor === what.upTo);
    if (what.upTo && at >= 0) {
      this.#kept.splice(0, at + 1);
      this.#resume = what.upTo;
    }
    return true;
  }
}
