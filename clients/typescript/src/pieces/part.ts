import { Value } from '../value.js';

/** Attributes by their HTML names, and handlers of events (`on` and the event's name). False, null and undefined are left out. */
export type Props = Record<string, string | number | boolean | null | undefined | ((event: Event) => unknown)>;

/** What is the page's own: a node of whatever the page is made with. It is put in as it is. */
export class Own {
  constructor(readonly content: unknown) {}
}

export type Inside = Part | string | Own;

/** An element to be shown, without saying by what: React, Vue and plain elements each make it in their own way. */
export interface Part {
  tag: string;
  /** What styles know it by: `data-part`, and `part` within `<rovett-…>`. */
  name: string;
  /** Tells it from its like, where there are several. */
  key?: string | undefined;
  props: Props;
  inside: readonly Inside[];
}

export function part(
  tag: string,
  name: string,
  props: Props & { key?: string },
  ...inside: readonly (Inside | false | null | undefined)[]
): Part {
  const { key, ...rest } = props;
  return { tag, name, key, props: rest, inside: inside.filter((i): i is Inside => !!i || i === '') };
}

export const button = (name: string, text: Inside, press: (event: Event) => unknown, props: Props = {}): Part =>
  part('button', name, { type: 'button', onclick: press, ...props }, text);

/** What a page shows of a user's notifications, kept current: `value` changes whenever `show` would show something else. */
export abstract class Piece {
  readonly #version = new Value(0);
  readonly #stops: (() => void)[] = [];

  get value(): number {
    return this.#version.value;
  }

  subscribe = (listener: () => void): (() => void) => this.#version.subscribe(listener);

  /** It shows something else from now on. */
  protected changed = (): void => this.#version.set(this.value + 1);

  /** Ends with it. */
  protected until(...stops: (() => void)[]): void {
    this.#stops.push(...stops);
  }

  /** Stops following. */
  close(): void {
    for (const stop of this.#stops.splice(0)) stop();
  }
}
