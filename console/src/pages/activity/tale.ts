import { clock, length, many } from '../../api/times';
import type { Shown } from '../../api/types';
import type { Sign } from '../../look/Glyph';

/** A step of a notification's story. */
export interface Step {
  /** Milliseconds since it began: since its first event, or since it was stored. */
  at: number;
  sign: Sign;
  text: string;
}

/** How a person's device came on. */
export interface Lane {
  who: string;
  device: string;
  marks: { at: number; sign: Sign }[];
}

export interface Tale {
  began: string;
  outcome: { sign: Sign; verdict: string; more: string };
  steps: Step[];
  lanes: Lane[];
  /** How many people's lanes are not shown. */
  others: number;
  deadlines: { at: number; sign: Sign; text: string; otherwise: string[] }[];
  stored: number;
  byRule: boolean;
}

const mostLanes = 12;
const signs: Record<string, Sign> = {
  stored: 'stored',
  withdrawn: 'withdrawn',
  replaced: 'replaced',
  expired: 'expired',
  taken: 'taken',
  released: 'stored',
};

/** What happened to a notification, in order, as far as it is stored. */
export function taleOf(shown: Shown): Tale {
  const first = (shown.events ?? []).flatMap((e) => (e.time ? [Date.parse(e.time)] : [])).sort((a, b) => a - b)[0];
  const stored = Date.parse(shown.time);
  const start = Math.min(stored, first ?? stored);
  const since = (time: string) => Math.max(0, Date.parse(time) - start);
  const steps: Step[] = [];

  for (const event of shown.events ?? []) {
    const what = `Event ${event.id} of ${event.source} accepted; the rule “${event.rule}” matched`;
    steps.push({ at: event.time ? since(event.time) : 0, sign: 'dispatched', text: what });
  }
  const but = shown.except.length > 0 ? `, but not ${shown.except.join(', ')}` : '';
  for (const entry of shown.timeline) {
    const by = entry.by ? ` by ${entry.by}` : '';
    const until = entry.until ? ` until ${clock(entry.until)}` : '';
    const words: Record<string, string> = {
      stored: `Stored for ${shown.to.join(', ')}${but}`,
      withdrawn: 'Withdrawn',
      replaced: 'Replaced by a newer one in its slot',
      expired: 'Expired',
      taken: `Taken${by}${until}`,
      released: `Given back${by}`,
    };
    steps.push({
      at: since(entry.time),
      sign: signs[entry.state] ?? 'stored',
      text: words[entry.state] ?? entry.state,
    });
  }
  const receipts = shown.receipts ?? [];
  const lanes: Lane[] = [];
  for (const receipt of receipts) {
    const marks: Lane['marks'] = [];
    const step = (time: string | null | undefined, sign: Sign, text: string) => {
      if (!time) return;
      marks.push({ at: since(time), sign });
      steps.push({ at: since(time), sign, text });
    };
    step(receipt.received, 'received', `Received by ${receipt.user}, on ${receipt.device}`);
    step(receipt.handled, 'handled', `Handled by ${receipt.user}`);
    step(receipt.read, 'read', `Read by ${receipt.user}`);
    lanes.push({ who: receipt.user, device: receipt.device, marks });
  }
  const deadlines = (shown.deadlines ?? []).map((d) => {
    const at = since(d.at);
    const otherwise = (d.otherwise ?? []).map(
      (o) =>
        `${o.webhook ? `webhook ${o.webhook}` : o.email ? `e-mail to ${o.email}` : `tell ${o.to?.join(', ')}`}: ${o.state}`,
    );
    const who = d.who === 'each' ? ' by each' : '';
    const text = `to be ${d.by}${who} within ${length(at)}: ${d.state}`;
    const sign: Sign = d.state === 'met' ? 'allowed' : d.state === 'missed' ? 'denied' : 'stored';
    if (d.ended) steps.push({ at: since(d.ended), sign, text: `Deadline ${d.state}: ${text.split(':')[0]}` });
    return { at, sign, text, otherwise };
  });
  steps.sort((a, b) => a.at - b.at);
  // The slowest are the ones to look at.
  const slowest = [...lanes].sort((a, b) => lastOf(b) - lastOf(a)).slice(0, mostLanes);
  return {
    began: new Date(start).toISOString(),
    outcome: outcomeOf(shown, stored),
    steps,
    lanes: slowest.sort((a, b) => firstOf(a) - firstOf(b)),
    others: lanes.length - slowest.length,
    deadlines,
    stored: stored - start,
    byRule: shown.events !== undefined,
  };
}

const firstOf = (lane: Lane) => lane.marks[0]?.at ?? Number.POSITIVE_INFINITY;
const lastOf = (lane: Lane) => lane.marks.at(-1)?.at ?? Number.POSITIVE_INFINITY;

function outcomeOf(shown: Shown, stored: number): Tale['outcome'] {
  const { received, read } = shown.people;
  const took = (time: string) => length(Date.parse(time) - stored);
  const reached = (shown.receipts ?? [])
    .filter((r) => r.received)
    .sort((a, b) => (a.received ?? '').localeCompare(b.received ?? ''));
  const [fastest, slowest] = [reached[0], reached.at(-1)];
  const more =
    fastest?.received && slowest?.received
      ? reached.length === 1
        ? `It reached ${fastest.user} after ${took(fastest.received)}.`
        : `It reached ${fastest.user} after ${took(fastest.received)}, and ${slowest.user} as the last after ${took(slowest.received)}.`
      : received > 0
        ? `${many(received, 'person has', 'people have')} received it, ${read === 0 ? 'nobody has' : many(read, 'has', 'have')} read it.`
        : 'No device has acknowledged it.';
  const missed = shown.deadlines?.find((d) => d.state === 'missed');
  const last = shown.timeline.at(-1);
  if (missed) return { sign: 'denied', verdict: `Not ${missed.by} in time.`, more };
  if (shown.taken) {
    const at = shown.timeline.findLast((t) => t.state === 'taken')?.time;
    return { sign: 'taken', verdict: `Taken by ${shown.taken.by}${at ? ` after ${took(at)}` : ''}.`, more };
  }
  if (last && last.state !== 'stored' && last.state !== 'released') {
    return {
      sign: signs[last.state] ?? 'stored',
      verdict: `${last.state[0]?.toUpperCase()}${last.state.slice(1)} after ${took(last.time)}.`,
      more,
    };
  }
  if (read > 0) return { sign: 'read', verdict: `Read by ${many(read, 'person', 'people')}.`, more };
  if (received > 0)
    return {
      sign: 'received',
      verdict: `Received by ${many(received, 'person', 'people')}, read by nobody yet.`,
      more,
    };
  return { sign: 'stored', verdict: 'Nobody has received it yet.', more: 'It waits for them.' };
}

/** The story as text, to be pasted into a report. */
export function textOf(shown: Shown, tale: Tale): string {
  return [
    `${shown.title} (${shown.type}, ${shown.id}, position ${shown.position})`,
    `${tale.outcome.verdict} ${tale.outcome.more}`,
    `${tale.began}`,
    ...tale.steps.map((s) => `  +${length(s.at).padEnd(8)} ${s.text}`),
    ...tale.deadlines.flatMap((d) => [`  deadline ${d.text}`, ...d.otherwise.map((o) => `    otherwise ${o}`)]),
  ].join('\n');
}
