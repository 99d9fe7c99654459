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
}

export interface SessionRow {
  session: string;
  user: string;
  device: string;
  label?: string;
  transport: 'websocket' | 'sse';
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
  anyOperator: boolean;
  spaces: string[];
}

export interface Problem {
  title: string;
  detail: string;
  mend: string;
}

export async function me(): Promise<Me> {
  return (await fetch('/console/api/me')).json();
}

/** Posts to the console's own interface; answers the problem, or null when it was done. */
export async function post(path: string, body: object): Promise<Problem | null> {
  const answer = await fetch(`/console/api/${path}`, {
    method: 'POST',
    headers: { 'Content-Type': 'application/json', 'X-Rovett-Console': '1' },
    body: JSON.stringify(body),
  });
  return answer.ok ? null : answer.json();
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
