import { connect, type Live } from '../live.js';
import type { LiveOptions } from '../options.js';
import type { Part, Piece } from '../pieces/part.js';
import { tokenFrom } from '../token.js';
import { fill } from './fill.js';

// Without a page (where a server renders) elements can be imported all the same.
const Base = globalThis.HTMLElement ?? (class {} as typeof HTMLElement);

/** All that are in the page. */
const present = new Set<LiveElement<object>>();
/** The page's connection, for elements that name none. */
let offered: Live | undefined;
let sheet: CSSStyleSheet | undefined;

/** Gives all elements a look, but those that are `plain`. */
export function giveLook(css: string): void {
  if (!globalThis.CSSStyleSheet) return;
  sheet = new CSSStyleSheet();
  sheet.replaceSync(css);
  for (const element of present) element.dress();
}

const isOver = (live: Live | undefined) => !live || live.state.value.phase === 'closed';

function offer(live: Live): void {
  if (!isOver(offered)) return;
  offered = live;
  for (const element of present) element.borrow();
}

/** An element with a user's connection: its own by `url` and `token-from` (or the properties `token` and `connect`), the one that is set as
 * `live`, or else the one that another element of the page has. */
export abstract class LiveElement<T extends object> extends Base {
  /** Gives a token of the user; before the element is in the page. */
  declare token?: () => string | Promise<string>;
  /** What connects; otherwise `connect`. */
  declare connect?: (options: LiveOptions) => Live;
  #live: Live | undefined;
  #whose: 'own' | 'given' | 'borrowed' = 'borrowed';
  #stops: (() => void)[] = [];
  #hasBegun = false;
  #texts: Partial<T> = {};

  constructor() {
    super();
    this.attachShadow?.({ mode: 'open' });
  }

  /** The connection. */
  get live(): Live | undefined {
    return this.#live;
  }

  set live(live: Live | undefined) {
    this.#end();
    this.#live = live;
    this.#whose = live ? 'given' : 'borrowed';
    if (!this.isConnected) return;
    this.borrow();
    this.#begin();
  }

  /** Texts in another language; a single one can be given as an attribute: `empty-text` for `empty`. */
  get texts(): T {
    const texts = { ...this.defaults(), ...this.#texts };
    for (const { name, value } of [...this.attributes])
      if (name.endsWith('-text'))
        Reflect.set(
          texts,
          name.slice(0, -5).replace(/-(\w)/g, (_, letter) => letter.toUpperCase()),
          value,
        );
    return texts;
  }

  set texts(texts: Partial<T>) {
    this.#texts = texts;
    this.shown();
  }

  connectedCallback(): void {
    // Set before this class was known, they lie in front of the accessors.
    for (const name of ['texts', 'live'] as const) {
      if (!Object.hasOwn(this, name)) continue;
      const given = Object.getOwnPropertyDescriptor(this, name)?.value;
      Reflect.deleteProperty(this, name);
      Reflect.set(this, name, given);
    }
    present.add(this);
    this.dress();
    if (!this.#live && (this.token || this.connect || this.hasAttribute('url') || this.hasAttribute('token-from'))) {
      const device = this.getAttribute('device');
      this.#live = (this.connect ?? connect)({
        url: this.getAttribute('url') ?? '',
        token: this.token ?? tokenFrom(this.getAttribute('token-from') ?? ''),
        ...(device ? { device } : {}),
      });
      this.#whose = 'own';
      offer(this.#live);
    }
    this.borrow();
    this.#begin();
  }

  disconnectedCallback(): void {
    present.delete(this);
    this.#end();
  }

  /** Takes the page's connection, if it has none. */
  borrow(): void {
    if (this.#whose !== 'borrowed' || !isOver(this.#live) || isOver(offered)) return;
    this.#end();
    this.#live = offered;
    if (this.isConnected) this.#begin();
  }

  dress(): void {
    if (this.shadowRoot) this.shadowRoot.adoptedStyleSheets = sheet && !this.hasAttribute('plain') ? [sheet] : [];
  }

  #begin(): void {
    const live = this.#live;
    if (!live || this.#hasBegun) return;
    this.#hasBegun = true;
    this.until(live.state.subscribe(() => this.phaseChanged()));
    this.begin(live);
    this.phaseChanged();
    this.shown();
  }

  protected phaseChanged(): void {
    this.dataset.phase = this.#live?.state.value.phase ?? '';
  }

  #end(): void {
    for (const stop of this.#stops.splice(0)) stop();
    this.#hasBegun = false;
    if (this.#whose === 'own') void this.#live?.close();
    if (this.#whose !== 'given') this.#live = undefined;
    if (this.#whose === 'own') this.#whose = 'borrowed';
  }

  /** Ends with the connection. */
  protected until(...stops: (() => void)[]): void {
    this.#stops.push(...stops);
  }

  /** Follows a piece until the connection ends. */
  protected follow(piece: Piece): void {
    this.until(
      piece.subscribe(() => this.shown()),
      () => piece.close(),
    );
  }

  protected abstract defaults(): T;

  /** There is a connection. */
  protected abstract begin(live: Live): void;

  /** Shows what there is now. */
  protected abstract shown(): void;

  protected fill(part: Part): void {
    if (this.shadowRoot) fill(this.shadowRoot as unknown as Element, [part]);
  }
}

/** Makes an element known by its name, unless it is. */
export function define(name: string, element: CustomElementConstructor): void {
  const known = globalThis.customElements as CustomElementRegistry | undefined;
  if (known && !known.get(name)) known.define(name, element);
}
