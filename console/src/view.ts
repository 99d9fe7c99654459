// What the service tells the console, and how it is asked.

export interface Row {
  id: string;
  position: number;
  time: string;
  addressing: string;
  type: string;
  title: string;
  urgency: string;
  dispatched: number;
  received: number;
  read: number;
  /** What became of it last; nothing: it stands. */
  state?: 'withdrawn' | 'replaced' | 'expired' | 'taken';
}

export type Transport = 'websocket' | 'sse' | 'long-poll';

export interface SessionRow {
  session: string;
  user: string;
  device: string;
  label?: string;
  transport: Transport;
  since: string;
  state: string;
  channels: string[];
  sent: number;
  outstanding: number;
}

export interface View {
  space: string;
  since: string;
  users: number;
  sessionCount: number;
  sessions: SessionRow[];
  storedSinceStart: number;
  notifications: Row[];
}

export interface Me {
  operator: string | null;
  may: 'view' | 'operate' | null;
  anyOperator: boolean;
  spaces: string[];
}

export interface Step {
  what: string;
  outcome: string;
  why: string;
  fix?: string;
}

export interface Explanation {
  user: string;
  on: string;
  onChannel: boolean;
  steps: Step[];
  rights?: { right: string; decision: string; by: string; steps: Step[] }[];
}

export interface AccessView {
  policyVersion: number;
  policies: { name: string; topic: string; may?: string[]; never?: string[]; when: object; ask?: string }[];
  deciders: { name: string; asked: number; failed: number; resting: boolean; lastError?: string }[];
  refusedOrigins: { origin: string; count: number; last: string }[];
  limits: { name: string; limit: number; used: number; what: string }[];
  acts: { number: number; time: string; actor: string; act: string; about: string; detail: Record<string, unknown> }[];
}

export interface OperatorsView {
  operators: { name: string; may: string; since: string }[];
  signIns: { operator: string; time: string; address: string; agent: string; signedIn: boolean }[];
}

export interface Problem {
  title: string;
  detail: string;
  fix: string;
}

export async function me(): Promise<Me> {
  return (await fetch('/console/api/me')).json();
}

export type Answer<T> = { value: T } | { problem: Problem };

async function answerOf<T>(response: Response): Promise<Answer<T>> {
  if (response.status === 204) return { value: undefined as T };
  return response.ok ? { value: await response.json() } : { problem: await response.json() };
}

/** Asks the console's own interface. */
export async function ask<T>(path: string): Promise<Answer<T>> {
  return answerOf(await fetch(`/console/api/${path}`));
}

/** Posts to the console's own interface. */
export async function postFor<T>(path: string, body: object): Promise<Answer<T>> {
  return answerOf(
    await fetch(`/console/api/${path}`, {
      method: 'POST',
      headers: { 'Content-Type': 'application/json', 'X-Rovett-Console': '1' },
      body: JSON.stringify(body),
    }),
  );
}

/** The same; answers the problem, or null when it was done. */
export async function post(path: string, body: object): Promise<Problem | null> {
  const answer = await postFor(path, body);
  return 'problem' in answer ? answer.problem : null;
}

/** 23 Nov, in the reader's own time. */
export function day(time: string): string {
  return new Date(time).toLocaleDateString('en-GB', { day: 'numeric', month: 'short' });
}

/** 08:14:05, in the reader's own time. */
export function clock(time: string): string {
  return new Date(time).toLocaleTimeString('en-GB');
}

/** The addresses of a send as people say them: "role:engineer, user:mara, but not user:ivo". */
export function whom(addressing: string): string {
  const lines = addressing.split('\n').filter(Boolean);
  const to = lines.filter((l) => l.startsWith('+')).map((l) => l.slice(1));
  const except = lines.filter((l) => l.startsWith('-')).map((l) => l.slice(1));
  return to.join(', ') + (except.length > 0 ? `, but not ${except.join(', ')}` : '');
}
