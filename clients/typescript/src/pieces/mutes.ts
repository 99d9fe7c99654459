import type { Mute } from '../choices.js';
import type { Live } from '../live.js';
import { muteLine } from './mute-line.js';
import { type Part, Piece, part } from './part.js';
import type { Texts } from './texts.js';

/** The user's mutes, each with a button that ends it. */
export class MutesPiece extends Piece {
  readonly #live: Live | null;
  #mutes: readonly Mute[] | null = null;
  #failed = false;

  constructor(live: Live | null) {
    super();
    this.#live = live;
    this.until(live?.onChange(({ kind }) => kind === 'choices' && void this.#load()) ?? (() => undefined));
    void this.#load();
  }

  async #load(): Promise<void> {
    try {
      this.#mutes = (await this.#live?.inbox.mutes()) ?? null;
      this.#failed = false;
    } catch {
      this.#failed = true;
    }
    this.changed();
  }

  async #unmute({ type, subject = '' }: Mute): Promise<void> {
    try {
      await this.#live?.inbox.unmute(type === undefined ? { subject } : { type });
    } catch {
      this.#failed = true;
    }
    await this.#load();
  }

  show({ texts }: { texts: Texts }): Part {
    const mutes = this.#mutes;
    const said = this.#failed ? texts.failed : mutes === null ? texts.loading : mutes.length === 0 ? texts.noMutes : '';
    return part(
      'section',
      'mutes-panel',
      { 'aria-label': texts.mutes },
      part('ul', 'mutes', {}, ...(mutes ?? []).map((mute) => muteLine(mute, texts.unmute, () => this.#unmute(mute)))),
      part('p', 'status', { role: 'status' }, said),
    );
  }
}
