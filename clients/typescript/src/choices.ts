import type { Live } from './live.js';
import type { Notification } from './messages.js';
import { type Readable, Value } from './value.js';

export type Day = 'mon' | 'tue' | 'wed' | 'thu' | 'fri' | 'sat' | 'sun';

/** A time of some days (of every day without `days`); an end that is not after the begin is on the next day. */
export interface QuietTime {
  days?: Day[];
  /** `22:00`. */
  from: string;
  /** `06:30`, at most `24:00`. */
  to: string;
}

/** When devices are not to ring. */
export interface QuietHours {
  /** A name of the IANA database: `Europe/Berlin`. */
  timeZone: string;
  hours: QuietTime[];
}

/** A type or a subject that the user is not told of. */
export interface Mute {
  type?: string;
  subject?: string;
  since?: string;
}

/** What the user chose. */
export interface ChoicesView {
  rev: number;
  mutes: readonly Mute[];
  quiet: QuietHours | null;
  /** The quiet hours of the next 48 hours as instants. */
  quietSpans: readonly { from: string; to: string }[];
  /** The types that have names for people; those that are `always` told of can't be muted. */
  types: readonly { type: string; name: string; always?: boolean }[];
}

/** What a user chose to be told of, and when: kept current by whatever device changes it. */
export class Choices implements Readable<ChoicesView | null> {
  readonly #live: Live;
  readonly #value = new Value<ChoicesView | null>(null);
  readonly #stop: () => void;

  /** Begins to read them. */
  constructor(live: Live) {
    this.#live = live;
    this.#stop = live.onChange((change) => {
      if (change.kind !== 'choices') return;
      if (this.value) this.#set(change as unknown as Partial<ChoicesView> & { rev: number });
      else this.#begin(); // the message has no types
    });
    this.#begin();
  }

  /** Null until they are known. */
  get value(): ChoicesView | null {
    return this.#value.value;
  }

  subscribe = (listener: () => void): (() => void) => this.#value.subscribe(listener);

  /** Reads them anew. */
  async load(): Promise<void> {
    this.#set((await this.#live.inbox.call<ChoicesView>('GET', '/v1/choices')).json);
  }

  /** Replaces all of them. Rejects with 412 when another device changed them meanwhile; they are read anew then. */
  async put(next: { mutes: readonly Mute[]; quiet: QuietHours | null }): Promise<void> {
    const body = { mutes: next.mutes.map(({ type, subject }) => (type ? { type } : { subject })), quiet: next.quiet };
    const known = this.value;
    const rev = known?.rev;
    if (known) this.#value.set({ ...known, ...next }); // shown at once; the answer has the last word
    try {
      const headers: Record<string, string> = rev === undefined ? {} : { 'If-Match': `"${rev}"` };
      this.#set((await this.#live.inbox.call<ChoicesView>('PUT', '/v1/choices', body, headers)).json);
    } catch (error) {
      if (known) this.#value.set(known);
      await this.load().catch(() => undefined);
      throw error;
    }
  }

  /** Mutes a type or a subject, or ends that. */
  async mute(what: { type: string } | { subject: string }, isMuted = true): Promise<void> {
    const { mutes, quiet } = this.value ?? { mutes: [], quiet: null };
    const wanted = what as Mute;
    const others = mutes.filter((m) => m.type !== wanted.type || m.subject !== wanted.subject);
    await this.put({ mutes: isMuted ? [...others, wanted] : others, quiet });
  }

  /** Whether a device rings for a notification: not within quiet hours, unless it is urgent or people are always told of it. */
  rings({ urgency, always }: Pick<Notification, 'urgency' | 'always'>, at: number = Date.now()): boolean {
    if (urgency === 'high' || always) return true;
    return !this.value?.quietSpans.some((s) => Date.parse(s.from) <= at && at < Date.parse(s.to));
  }

  /** Ends hearing of changes. */
  close(): void {
    this.#stop();
  }

  #begin(): void {
    this.load().catch(() => undefined); // `value` stays null; who asks again hears why
  }

  #set(told: Partial<ChoicesView> & { rev: number }): void {
    const known = this.value;
    if (known && told.rev < known.rev) return;
    const { rev, mutes = [], quiet = null, quietSpans = [], types = known?.types ?? [] } = told;
    this.#value.set({ rev, mutes, quiet, quietSpans, types });
  }
}
