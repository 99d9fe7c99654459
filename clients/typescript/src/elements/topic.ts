import type { Live } from '../live.js';
import { safe } from '../pieces/links.js';
import { Own, part } from '../pieces/part.js';
import { ago } from '../pieces/times.js';
import { type Heard, TopicPiece } from '../pieces/topic.js';
import { define, LiveElement } from './element.js';
import { fill } from './fill.js';

/** `<rovett-topic topic="berth/3">`: hears a topic for as long as it is in the page, and shows what comes on it, without a script.
 *
 * A `<template>` within it, with one element, says how one is shown: `data-show="title"` gives an element that text (`body`, `time`, `from`,
 * `data.berth` …), never as HTML, and hides it where there is none; `data-link` gives an `<a>` the notification's link. They are put into the
 * element that is marked `data-items`, or else at the end, among the page's own styles. `limit` is how many are kept (10), `presence` has
 * `data-here` say how many people are on it. Events: `rovett-notification` and `rovett-said` with the message as `detail`, `rovett-refused` with
 * the problem. Parts: `topic`, `items`, `item`, `title`, `body`, `time`, `error`. */
export class RovettTopic extends LiveElement<{ topic: string }> {
  static readonly observedAttributes = ['topic'];
  #piece: TopicPiece | undefined;
  readonly #made = new WeakMap<Heard, Element>();

  protected override defaults(): { topic: string } {
    return { topic: '{topic}' };
  }

  attributeChangedCallback(_: string, before: string | null, now: string | null): void {
    if (before === null || before === now || !this.live) return;
    this.#leave?.();
    this.begin(this.live);
    this.shown();
  }

  #leave: (() => void) | undefined;

  protected override begin(live: Live): void {
    const topic = this.getAttribute('topic') ?? '';
    const tell = (name: string, detail: unknown) =>
      this.dispatchEvent(new CustomEvent(`rovett-${name}`, { detail, bubbles: true, composed: true }));
    const options = { limit: Number(this.getAttribute('limit')) || 10, presence: this.hasAttribute('presence') };
    const piece = new TopicPiece(live, topic, options, {
      notification: (notification) => tell('notification', notification),
      said: (said) => tell('said', said),
      refused: (error) => tell('refused', error.problem),
    });
    this.#piece = piece;
    this.#leave = () => piece.close();
    this.follow(piece);
  }

  protected override shown(): void {
    const piece = this.#piece;
    if (!piece) return;
    const template = this.querySelector('template');
    if (piece.count !== null) this.dataset.here = `${piece.count}`;
    this.dataset.count = `${piece.heard.length}`;
    if (!template) {
      this.fill(piece.show(this.texts.topic.replace('{topic}', this.getAttribute('topic') ?? '')));
      return;
    }
    // Into the page itself, where the page's styles are.
    this.fill(part('div', 'topic', {}, part('slot', '', {}), piece.error()));
    this.#place ??= this.querySelector('[data-items]') ?? this.appendChild(document.createElement('div'));
    this.#place.ariaLive ??= 'polite';
    fill(
      this.#place,
      piece.heard.map(({ what }) => new Own(this.#byTemplate(template, what))),
    );
  }

  #place: Element | undefined;

  #byTemplate(template: HTMLTemplateElement, what: Heard): Element {
    const made =
      this.#made.get(what) ?? (template.content.firstElementChild ?? document.createElement('div')).cloneNode(true);
    const element = made as Element;
    this.#made.set(what, element);
    const all = <E extends Element>(name: string): E[] => [
      ...(element.matches(name) ? [element as E] : []),
      ...element.querySelectorAll<E>(name),
    ];
    for (const shown of all<HTMLElement>('[data-show]')) {
      const text = textOf(what, shown.dataset.show ?? '');
      shown.textContent = text;
      shown.hidden = text === '';
    }
    const link = safe(what.kind === 'notification' ? what.link : undefined);
    for (const anchor of all('[data-link]')) {
      if (link) anchor.setAttribute('href', link);
      else anchor.removeAttribute('href');
    }
    return element;
  }
}

/** A member of a message as text; times as people say them. */
function textOf(what: Heard, path: string): string {
  const found = path
    .split('.')
    .reduce<unknown>((value, name) => (value as Record<string, unknown> | null | undefined)?.[name], what);
  if (path === 'time') return ago(what.time);
  return found === undefined || found === null ? '' : typeof found === 'object' ? JSON.stringify(found) : `${found}`;
}

define('rovett-topic', RovettTopic);
