import type { Live } from '../live.js';
import { ChoicesPiece } from '../pieces/choices.js';
import { type ChoicesTexts, choicesTexts } from '../pieces/choices-texts.js';
import { define, LiveElement } from './element.js';

/** `<rovett-choices>`: what the user is told of, and when devices are quiet. Its parts are `types`, `type`, `always`, `muted`, `quiet`, `help`,
 * `time`, `days`, `remove`, `add`, `zone`, `save` and `status`; its texts, `choicesTexts`. */
export class RovettChoices extends LiveElement<ChoicesTexts> {
  #piece: ChoicesPiece | undefined;

  protected override defaults(): ChoicesTexts {
    return choicesTexts;
  }

  protected override begin(live: Live): void {
    this.#piece = new ChoicesPiece(live);
    this.follow(this.#piece);
  }

  protected override shown(): void {
    if (this.#piece) this.fill(this.#piece.show({ texts: this.texts }));
  }
}

define('rovett-choices', RovettChoices);
