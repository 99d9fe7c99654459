import { clock, dayAndTime, length } from '../../api/times';
import type { MeterStep, Meters } from '../../api/types';

export const windows = [
  { value: '15m', label: '15 min', title: 'The last 15 minutes' },
  { value: '1h', label: '1 hour', title: 'The last hour' },
  { value: '1d', label: '1 day', title: 'The last day' },
  { value: '7d', label: '7 days', title: 'The last 7 days' },
] as const;

export type Over = (typeof windows)[number]['value'];

export const isOver = (value: string | null): value is Over => windows.some((w) => w.value === value);

/** A step as the traces draw it: rates a minute, times in ms. Null while the service was down, which is not the same as none. */
export interface Point {
  at: number;
  websocket: number | null;
  sse: number | null;
  longPoll: number | null;
  sends: number | null;
  received: number | null;
  p50: number | null;
  p99: number | null;
  waiting: number | null;
  refused: number;
  store: number | null;
}

const ms = (seconds: number | undefined) => (seconds === undefined ? null : seconds * 1000);

export function pointsOf(meters: Meters): Point[] {
  const aMinute = 60 / meters.stepSeconds;
  return meters.steps.map((step: MeterStep) => {
    const counted = (value: number | undefined) => (step.storeBytes === 0 ? null : (value ?? 0));
    return {
      at: Date.parse(step.start),
      websocket: counted(step.sessions.websocket),
      sse: counted(step.sessions.sse),
      longPoll: counted(step.sessions['long-poll']),
      sends: counted(step.sends * aMinute),
      received: counted(step.received * aMinute),
      p50: ms(step.delayP50),
      p99: ms(step.delayP99),
      waiting: counted(step.waiting),
      refused: step.refused,
      store: counted(step.storeBytes),
    };
  });
}

/** The time of a step, with its day where a window is longer than one. */
export const timeOf = (at: number, over: Over): string => {
  const time = new Date(at).toISOString();
  return over === '7d' || over === '1d' ? dayAndTime(time) : clock(time);
};

/** The same, short enough for the scale below the traces. */
export const tickOf = (at: number, over: Over): string =>
  over === '7d'
    ? new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' })
    : new Date(at).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' });

/** A rate as read at a glance: 0.4, 12, 1,204. */
export const rate = (value: number | null): string =>
  value === null
    ? '–'
    : value < 10
      ? Number(value.toFixed(1)).toLocaleString('en-GB')
      : Math.round(value).toLocaleString('en-GB');

export const delay = (value: number | null): string => (value === null ? 'none' : length(value));

/** All sessions of a step. */
export const liveAt = (p: Point): number => (p.websocket ?? 0) + (p.sse ?? 0) + (p.longPoll ?? 0);

/** The highest of a trace and when. */
export function highest(points: Point[], of: (p: Point) => number | null): { value: number; at: number } | null {
  let best: { value: number; at: number } | null = null;
  for (const point of points) {
    const value = of(point) ?? 0;
    if (value > (best?.value ?? 0)) best = { value, at: point.at };
  }
  return best;
}

const said: Record<string, string> = {
  'service.started': 'Started',
  'policies.loaded': 'Policies',
  'rules.loaded': 'Rules',
  'types.loaded': 'Types',
  'api-key.made': 'Key made',
  'api-key.rotated': 'Key rotated',
  'api-key.revoked': 'Key revoked',
  'settings.changed': 'Settings',
};

export interface Mark {
  at: number;
  text: string;
}

/** Changes as marks on the scale of time; those too close to tell apart are one. */
export function marksOf(meters: Meters): Mark[] {
  const [from, to] = [Date.parse(meters.from), Date.parse(meters.to)];
  const near = (to - from) * 0.13;
  const marks: (Mark & { names: Set<string> })[] = [];
  for (const change of [...meters.changes].reverse()) {
    const at = Date.parse(change.time);
    const name = said[change.what] ?? change.what.replaceAll('.', ' ').replaceAll('-', ' ');
    const last = marks.at(-1);
    if (last && at - last.at < near) last.names.add(name);
    else marks.push({ at, text: '', names: new Set([name]) });
  }
  return marks.map(({ at, names }) => {
    const [first, ...more] = [...names];
    return { at, text: more.length > 0 ? `${first}, and ${more.length} more` : (first ?? '') };
  });
}
