import type { Live } from '../live.js';
import { BellPiece } from '../pieces/bell.js';
import { defaultTexts, type Texts } from '../pieces/texts.js';
import type { RovettChoices } from './choices.js';
import { define, LiveElement } from './element.js';

/** `<rovett-bell url="…" token-from="/my-token" inbox>`: a bell with the exact number of unread notifications, for pages without a framework;
 * with `inbox`, pressing it opens the list, and with `choices` too (and `rovett/choices-element`), the user's choices from there. It has a look
 * of its own with `rovett/look`; its parts are `button`, `icon`, `count`, `inbox`, `panel`, `head`, `item` (with `new`), `title` (with `unread`),
 * `body`, `time`, `mark-read`, `mark-all`, `more`, `newer`, `empty`, `error`, `again`, `foot` and others. The default slot takes the icon's place.
 * `data-phase` says how the connection stands, `data-unread` how many are unread. `rovett-follow` (cancelable) tells that a link is followed. */
export class RovettBell extends LiveElement<Texts> {
  #piece: BellPiece | undefined;
  #choices: RovettChoices | undefined;

  protected override defaults(): Texts {
    return defaultTexts;
  }

  protected override begin(live: Live): void {
    const limit = Number(this.getAttribute('limit')) || undefined;
    this.#piece = new BellPiece(live, { limit });
    this.follow(this.#piece);
  }

  protected override shown(): void {
    const { texts } = this;
    const piece = this.#piece;
    if (!piece) return;
    const label = this.getAttribute('label');
    this.dataset.unread = `${this.live?.totals.value?.unread ?? ''}`;
    this.fill(
      piece.show({
        texts: label ? { ...texts, bell: label } : texts,
        hasInbox: this.hasAttribute('inbox'),
        icon: this.childElementCount > 0 ? () => this.#slot : undefined,
        choices: this.hasAttribute('choices') ? () => this.#theChoices() : undefined,
        follow: (item, event) => {
          const told = new CustomEvent('rovett-follow', {
            detail: item,
            bubbles: true,
            composed: true,
            cancelable: true,
          });
          if (!this.dispatchEvent(told)) event.preventDefault();
        },
      }),
    );
  }

  readonly #slot = globalThis.document?.createElement('slot');

  #theChoices(): RovettChoices {
    this.#choices ??= document.createElement('rovett-choices') as RovettChoices;
    if (this.#choices.live !== this.live) this.#choices.live = this.live;
    return this.#choices;
  }
}

define('rovett-bell', RovettBell);
