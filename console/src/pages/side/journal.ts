import type { Notification, Transport } from 'rovett';
import type { Passed } from './wire';

/** How a notification got to one of the two. */
export interface Got {
  at: number;
  transport: Transport;
}

/** A notification on its way from the back office to the two. */
export interface Leg {
  id: string;
  title: string;
  to: string;
  at: number;
  /** Sent from this page. */
  isOwn: boolean;
  /** Who is on one of its channels, by user; unknown until it was asked. */
  isFor: Record<string, boolean>;
  got: Record<string, Got>;
}

export interface Journal {
  legs: Leg[];
  /** By user, newest last. */
  wires: Record<string, Passed[]>;
}

export const empty: Journal = { legs: [], wires: {} };

export type Step =
  | { kind: 'sent'; leg: Leg }
  | { kind: 'for'; id: string; user: string; is: boolean }
  | { kind: 'got'; user: string; notification: Notification; at: number; transport: Transport }
  | { kind: 'passed'; user: string; passed: Passed }
  | { kind: 'clear' };

const mostLegs = 30;
const mostPassed = 300;

export function journal(before: Journal, step: Step): Journal {
  switch (step.kind) {
    case 'clear':
      return empty;
    case 'sent':
      // It may have arrived before its answer.
      return withLeg(before, step.leg.id, (leg) => ({ ...step.leg, got: leg?.got ?? {}, at: leg?.at ?? step.leg.at }));
    case 'for':
      return withLeg(before, step.id, (leg) => leg && { ...leg, isFor: { ...leg.isFor, [step.user]: step.is } });
    case 'got': {
      const { notification: n, user, at, transport } = step;
      const id = n.id;
      if (!id) return before; // ephemeral: it has no story
      return withLeg(before, id, (leg) => {
        const known = leg ?? {
          id,
          title: n.title,
          to: n.to,
          at: Date.parse(n.time),
          isOwn: false,
          isFor: {},
          got: {},
        };
        return { ...known, at: Date.parse(n.time), got: { ...known.got, [user]: { at, transport } } };
      });
    }
    case 'passed': {
      const wire = [...(before.wires[step.user] ?? []), step.passed].slice(-mostPassed);
      return { ...before, wires: { ...before.wires, [step.user]: wire } };
    }
  }
}

function withLeg(before: Journal, id: string, change: (leg: Leg | undefined) => Leg | undefined): Journal {
  const known = before.legs.find((l) => l.id === id);
  const changed = change(known);
  if (!changed) return before;
  const legs = known ? before.legs.map((l) => (l === known ? changed : l)) : [changed, ...before.legs];
  return { ...before, legs: legs.sort((a, b) => b.at - a.at).slice(0, mostLegs) };
}

/** What a message of the wire says, for people. */
export function saying(passed: Passed): { kind: string; says: string } {
  const message = JSON.parse(passed.text);
  const kind: string = message.kind ?? 'message';
  switch (kind) {
    case 'notification':
      return { kind, says: message.title ?? 'sent in part, and fetched' };
    case 'notifications':
      return { kind, says: `${message.items?.length ?? 0} together` };
    case 'ack':
      return { kind, says: message.upTo ? 'all up to a cursor' : `${message.ids?.length ?? 0} by id` };
    case 'opened':
      return { kind, says: `session open, on ${(message.channels ?? []).join(', ')}` };
    case 'totals':
      return { kind, says: `${message.unread} unread` };
    case 'renew':
      return { kind, says: 'the credential, not shown' };
    case 'change':
      return { kind, says: `${message.change ?? ''} ${message.id ?? ''}` };
    default:
      return { kind, says: message.reason ?? message.address ?? '' };
  }
}

/** Whether a message carries a notification. */
export const carries = (passed: Passed, id: string): boolean => passed.text.includes(id);
