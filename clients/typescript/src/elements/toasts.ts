import type { Live } from '../live.js';
import { defaultTexts, type Texts } from '../pieces/texts.js';
import { ToastsPiece } from '../pieces/toasts.js';
import { define, LiveElement } from './element.js';

/** `<rovett-toasts>`: what comes while the inbox is closed, for 8 s each (`seconds`), of all types or one (`type`). Its parts are `toasts`, `toast`,
 * `title`, `body`, `dismiss` and `others`. */
export class RovettToasts extends LiveElement<Texts> {
  #piece: ToastsPiece | undefined;

  protected override defaults(): Texts {
    return defaultTexts;
  }

  protected override begin(live: Live): void {
    const seconds = Number(this.getAttribute('seconds')) || 8;
    this.#piece = new ToastsPiece(live, { forMs: seconds * 1000, type: this.getAttribute('type') ?? '*' });
    this.follow(this.#piece);
  }

  protected override shown(): void {
    if (this.#piece) this.fill(this.#piece.show({ texts: this.texts }));
  }
}

define('rovett-toasts', RovettToasts);
