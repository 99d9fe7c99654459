/** The ways to be connected, best first. */
export type Transport = 'websocket' | 'sse' | 'long-poll';

/** A user's absolute totals. */
export interface Totals {
  /** Unread notifications. */
  unread: number;
  /** The time of the newest entry they know of. */
  asOf: string;
  /** The number of the user's own changes that they know of. */
  rev: number;
  /** Unread by the address that reached the user, where it was asked for. */
  by?: Record<string, number>;
}

/** A notification as it comes live. `D` is what the backend put into `data`. */
export interface Notification<D = unknown> {
  kind: 'notification';
  /** Missing for an ephemeral one, which is in no inbox. */
  id?: string;
  cursor?: string;
  /** The address that reached this user. */
  to: string;
  type: string;
  title: string;
  subject?: string;
  body?: string;
  link?: string;
  urgency: 'very-low' | 'low' | 'normal' | 'high';
  time: string;
  expires?: string;
  /** By when something is wanted of it: its earliest deadline. It is acknowledged at once. */
  due?: string;
  takeable?: unknown;
  /** Only a part of it came. Handlers get all of it: it is fetched before. */
  carry?: 'summary' | 'reference';
  /** People are always told of it: it rings within quiet hours too. */
  always?: boolean;
  data?: D;
  /** 2 and more: this device was sent it before. */
  attempt?: number;
  /** The user is looking at its subject. */
  read?: boolean;
  /** False: it came by a subscription alone, and is in no inbox and no total. */
  counted?: boolean;
  /** False: an ephemeral one. */
  stored?: boolean;
  unread?: number;
  rev?: number;
}

/** What became of a notification, or what another device of the user did. */
export interface Change {
  kind: 'withdrawn' | 'expired' | 'replaced' | 'taken' | 'released' | 'read' | 'gap' | 'choices';
  id?: string;
  ids?: string[];
  by?: string;
  time?: string;
  reason?: string;
  all?: boolean;
  upTo?: string;
  subject?: string;
  unreadAgain?: boolean;
  [member: string]: unknown;
}

/** What somebody said on a topic. */
export interface Said<D = unknown> {
  kind: 'said';
  /** The topic's address. */
  to: string;
  /** The user who said it, as the token says. */
  from: string;
  displayName?: string;
  /** What the backend lets others be shown of the user. */
  profile?: unknown;
  data: D;
  time: string;
}

/** RFC 9457, with the fields at fault and the fix. */
export interface Problem {
  type: string;
  title: string;
  status: number;
  detail?: string;
  [member: string]: unknown;
}

/** Any message. */
// biome-ignore lint/suspicious/noExplicitAny: messages are what docs/protocol.md says; each use reads what it needs
export type Message = { kind: string; [member: string]: any };

/** The service refused something. */
export class RovettError extends Error {
  override readonly name = 'RovettError';
  constructor(readonly problem: Problem) {
    super([problem.title, problem.detail].filter(Boolean).join(': '));
  }
  /** The HTTP status. */
  get status(): number {
    return this.problem.status;
  }
}

/** The problem that an answer carries, or one made of its status. */
export async function problemOf(answer: Response): Promise<Problem> {
  try {
    const body = await answer.json();
    if (typeof body?.title === 'string') return body;
  } catch {
    // Something between here and the service answered.
  }
  return { type: 'about:blank', title: `the answer was ${answer.status}`, status: answer.status };
}
