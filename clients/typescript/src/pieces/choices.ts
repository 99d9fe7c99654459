import { Choices, type ChoicesView, type Mute, type QuietHours, type QuietTime } from '../choices.js';
import type { Live } from '../live.js';
import { RovettError } from '../messages.js';
import {
  type ChoicesTexts,
  canSave,
  days,
  draftOf,
  endOf,
  mostTimes,
  newTime,
  shownTime,
  unnamed,
  withDay,
  zonesWith,
} from './choices-texts.js';
import { muteLine } from './mute-line.js';
import { button, type Part, Piece, part } from './part.js';

const inputOf = (event: Event) => event.target as HTMLInputElement;

/** What the user is told of, and when devices are quiet. */
export class ChoicesPiece extends Piece {
  readonly #choices: Choices | null;
  /** Quiet hours as they are being changed. */
  #draft: QuietHours | null = null;
  #told: 'saved' | 'changed' | 'failed' | null = null;

  constructor(live: Live | null) {
    super();
    const choices = live && new Choices(live);
    this.#choices = choices;
    if (choices)
      this.until(
        choices.subscribe(() => {
          this.#draft = null;
          this.changed();
        }),
        () => choices.close(),
      );
  }

  async #act(work: Promise<void> | undefined, done: 'saved' | null = null): Promise<void> {
    this.#told = null;
    try {
      await work;
      this.#told = done;
    } catch (error) {
      this.#told = error instanceof RovettError && error.status === 412 ? 'changed' : 'failed';
    }
    this.changed();
  }

  #mute(what: Mute, isMuted: boolean): void {
    const { type, subject = '' } = what;
    void this.#act(this.#choices?.mute(type === undefined ? { subject } : { type }, isMuted));
  }

  show({ texts }: { texts: ChoicesTexts }): Part {
    const view = this.#choices?.value;
    return part(
      'section',
      'choices-panel',
      { 'aria-label': texts.choices, 'aria-busy': `${!view}` },
      ...(view ? [this.#types(view, texts), this.#muted(view, texts), this.#quiet(view, texts)] : []),
      part('p', 'status', { role: 'status' }, view ? (this.#told ? texts[this.#told] : '') : texts.loading),
    );
  }

  #types({ types, mutes }: ChoicesView, texts: ChoicesTexts): Part | null {
    if (types.length === 0) return null;
    const rows = types.map(({ type, name, always }) =>
      part(
        'label',
        'type',
        { key: type },
        part('input', 'check', {
          type: 'checkbox',
          checked: always || !mutes.some((m) => m.type === type),
          disabled: !!always,
          onchange: (event) => this.#mute({ type }, !inputOf(event).checked),
        }),
        ` ${name} `,
        !!always && part('small', 'always', {}, `(${texts.always})`),
      ),
    );
    return part('fieldset', 'types', {}, part('legend', 'legend', {}, texts.told), ...rows);
  }

  #muted({ types, mutes }: ChoicesView, texts: ChoicesTexts): Part | null {
    const others = unnamed(mutes, types);
    if (others.length === 0) return null;
    const lines = others.map((mute) => muteLine(mute, texts.unmute, () => this.#mute(mute, false)));
    return part(
      'fieldset',
      'muted',
      {},
      part('legend', 'legend', {}, texts.alsoMuted),
      part('ul', 'mutes', {}, ...lines),
    );
  }

  #quiet({ quiet, mutes }: ChoicesView, texts: ChoicesTexts): Part {
    const saved = draftOf(quiet);
    const draft = this.#draft ?? saved;
    const { hours, timeZone } = draft;
    const put = (next: Partial<QuietHours>) => {
      this.#draft = { ...draft, ...next };
      this.changed();
    };
    const zone = part(
      'select',
      'select',
      { value: timeZone, onchange: (event) => put({ timeZone: inputOf(event).value }) },
      ...zonesWith(timeZone).map((name) => part('option', '', { key: name, value: name }, name)),
    );
    const next = hours.length > 0 ? draft : null;
    return part(
      'fieldset',
      'quiet',
      {},
      part('legend', 'legend', {}, texts.quiet),
      part('p', 'help', {}, texts.quietHelp),
      ...hours.map((time, at) =>
        this.#time(time, `${at}`, texts, (changed) =>
          put({ hours: hours.flatMap((t, i) => (i !== at ? [t] : changed ? [changed] : [])) }),
        ),
      ),
      button('add', texts.add, () => put({ hours: [...hours, newTime()] }), { disabled: hours.length >= mostTimes }),
      hours.length > 0 && part('label', 'zone', {}, `${texts.timeZone} `, zone),
      button('save', texts.save, () => this.#act(this.#choices?.put({ mutes, quiet: next }), 'saved'), {
        disabled: !canSave(draft, saved),
      }),
    );
  }

  #time(time: QuietTime, key: string, texts: ChoicesTexts, put: (time: QuietTime | null) => void): Part {
    const field = (text: string, value: string, change: (value: string) => void) =>
      part(
        'label',
        'field',
        { key: text },
        `${text} `,
        part('input', 'time-of-day', {
          type: 'time',
          required: true,
          value,
          onchange: (event) => change(inputOf(event).value),
        }),
      );
    const boxes = days.map((day) =>
      part(
        'label',
        'day',
        { key: day },
        part('input', 'check', {
          type: 'checkbox',
          checked: (time.days ?? days).includes(day),
          onchange: (event) => put(withDay(time, day, inputOf(event).checked)),
        }),
        ` ${texts[day]}`,
      ),
    );
    return part(
      'fieldset',
      'time',
      { key, 'aria-label': `${time.from} ${texts.to} ${time.to}` },
      field(texts.from, time.from, (from) => put({ ...time, from })),
      ' ',
      field(texts.to, shownTime(time.to), (to) => put({ ...time, to: endOf(to) })),
      part('fieldset', 'days', { 'aria-label': texts.days }, ...boxes),
      button('remove', texts.remove, () => put(null)),
    );
  }
}
