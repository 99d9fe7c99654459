/** 08:14:05, in the reader's own time. */
export const clock = (time: string): string => new Date(time).toLocaleTimeString('en-GB');

/** 23 Nov, 08:14, in the reader's own time. */
export const dayAndTime = (time: string): string =>
  new Date(time).toLocaleString('en-GB', { day: 'numeric', month: 'short', hour: '2-digit', minute: '2-digit' });

/** 23 Nov, in the reader's own time. */
export const day = (time: string): string =>
  new Date(time).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' });

/** A time today as the clock shows it; an earlier one with its day. */
export const when = (time: string, now = Date.now()): string =>
  new Date(time).toDateString() === new Date(now).toDateString() ? clock(time) : dayAndTime(time);

const units: [string, number][] = [
  ['d', 86_400_000],
  ['h', 3_600_000],
  ['min', 60_000],
  ['s', 1000],
];

/** A length of time in its largest unit, with one decimal below ten: 41 ms, 3.2 s, 12 min. */
export function length(ms: number): string {
  for (const [unit, size] of units) {
    if (ms >= size) return `${ms / size < 10 ? Number((ms / size).toFixed(1)) : Math.round(ms / size)} ${unit}`;
  }
  return `${Math.round(ms)} ms`;
}

/** How long ago: "14 min ago". */
export const ago = (time: string, now = Date.now()): string => {
  const ms = now - Date.parse(time);
  return ms < 1000 ? 'just now' : `${length(ms)} ago`;
};

/** 71.3 MB. */
export function bytes(count: number): string {
  let [value, unit] = [count, 'B'];
  for (const next of ['kB', 'MB', 'GB', 'TB']) {
    if (value < 1000) break;
    [value, unit] = [value / 1000, next];
  }
  return `${value < 10 && unit !== 'B' ? value.toFixed(1) : Math.round(value)} ${unit}`;
}

/** "1 rule", "3 rules". */
export const many = (count: number, one: string, more = `${one}s`): string =>
  `${count.toLocaleString('en-GB')} ${count === 1 ? one : more}`;
