const units: [Intl.RelativeTimeFormatUnit, number][] = [
  ['day', 86_400],
  ['hour', 3600],
  ['minute', 60],
];

/** The page's language. */
export const language = (): string | undefined => globalThis.document?.documentElement.lang || undefined;

/** How long ago something was, in words; after a week, its date. */
export function ago(time: string, now = Date.now()): string {
  const seconds = (now - Date.parse(time)) / 1000;
  const words = new Intl.RelativeTimeFormat(language(), { numeric: 'auto', style: 'short' });
  if (seconds > 7 * 86_400)
    return new Date(time).toLocaleDateString(language(), { day: 'numeric', month: 'short', year: 'numeric' });
  for (const [unit, length] of units) if (seconds >= length) return words.format(-Math.floor(seconds / length), unit);
  return words.format(0, 'second');
}

export const exact = (time: string): string =>
  new Date(time).toLocaleString(language(), { dateStyle: 'full', timeStyle: 'medium' });

export const clock = (time: number): string =>
  new Date(time).toLocaleTimeString(language(), { hour: '2-digit', minute: '2-digit' });

/** Calls back every half minute, so that times stay true, until the function that it returns is called. */
export function everyHalfMinute(work: () => void): () => void {
  const timer = setInterval(work, 30_000);
  (timer as { unref?: () => void }).unref?.();
  return () => clearInterval(timer);
}
