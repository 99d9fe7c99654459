import type { Day, Mute, QuietHours, QuietTime } from '../choices.js';

/** The texts of the panel with choices; each can be given in another language. */
export const choicesTexts = {
  choices: 'What you are told',
  told: 'Tell me of',
  always: 'always told',
  alsoMuted: 'Also muted',
  unmute: 'Unmute',
  quiet: 'Quiet hours',
  quietHelp: 'Your devices do not ring then, except for what is urgent or always told.',
  from: 'From',
  to: 'to',
  days: 'Days',
  remove: 'Remove',
  add: 'Add a time',
  timeZone: 'Time zone',
  save: 'Save quiet hours',
  saved: 'Saved.',
  changed: 'Changed on another device; this is what holds now.',
  failed: 'It could not be saved.',
  loading: 'Loading …',
  mon: 'Mon',
  tue: 'Tue',
  wed: 'Wed',
  thu: 'Thu',
  fri: 'Fri',
  sat: 'Sat',
  sun: 'Sun',
};

export type ChoicesTexts = typeof choicesTexts;

export const days: readonly Day[] = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'];

/** The time zone of this device. */
export const hereZone = (): string => Intl.DateTimeFormat().resolvedOptions().timeZone;

/** The time zones to choose from; the one that is chosen is always among them. */
export function zonesWith(chosen: string): string[] {
  const all = Intl.supportedValuesOf?.('timeZone') ?? [];
  return [...new Set([chosen, 'UTC', ...all])].sort();
}

/** A new time, as people often have it. */
export const newTime = (): QuietTime => ({ from: '22:00', to: '06:30' });

/** Quiet hours that can be changed; without times there are none. */
export const draftOf = (quiet: QuietHours | null): QuietHours => quiet ?? { timeZone: hereZone(), hours: [] };

/** Whether quiet hours can be saved: they differ from what is saved, and each period has a start, an end and at least one day. */
export const canSave = (draft: QuietHours, saved: QuietHours): boolean =>
  JSON.stringify(draft) !== JSON.stringify(saved) &&
  draft.hours.every((t) => t.from && t.to && t.from !== t.to && t.days?.length !== 0);

/** The service takes no more. */
export const mostTimes = 14;

/** A time with a day more or less. */
export function withDay(time: QuietTime, day: Day, isOn: boolean): QuietTime {
  const some = days.filter((d) => (d === day ? isOn : (time.days ?? days).includes(d)));
  const { from, to } = time;
  return some.length === days.length ? { from, to } : { days: some, from, to };
}

/** Mutes of what has no name to choose by. */
export const unnamed = (mutes: readonly Mute[], types: readonly { type: string }[]): Mute[] =>
  mutes.filter((m) => m.type === undefined || !types.some((t) => t.type === m.type));

/** Half of the day ends at midnight: a field for times can't show 24:00. */
export const shownTime = (text: string): string => (text === '24:00' ? '00:00' : text);
export const endOf = (text: string): string => (text === '00:00' ? '24:00' : text);
