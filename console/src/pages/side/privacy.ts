import { api } from '../../api/door';
import { many } from '../../api/times';
import type { Sent } from '../../api/types';
import type { Draft } from './BackOffice';
import { carries, type Journal } from './journal';

export interface Outcome {
  holds: boolean;
  sentence: string;
  why: string;
}

interface Hands {
  sent: (draft: Draft, sent: Sent) => void;
  isLive: (user: string) => boolean;
  nameOf: (user: string) => string;
}

const patience = 10_000;

async function until<T>(look: () => T | undefined | false): Promise<T | null> {
  const end = Date.now() + patience;
  for (;;) {
    const found = look();
    if (found) return found;
    if (Date.now() > end) return null;
    await new Promise((resolve) => setTimeout(resolve, 50));
  }
}

/** A type that may be sent: where only those of the catalogue may, one of them that demands no data. */
async function typeOf(space: string): Promise<string> {
  const { strict, types } = await api(space).get<{ strict: boolean; types: { type: string; data?: unknown }[] }>(
    '/v1/types',
  );
  return (strict && (types.find((t) => t.data === undefined) ?? types[0])?.type) || 'console.check';
}

/**
 * Sends a notification to the first alone, and then one to the second alone. Once the second one has arrived, everything that
 * was sent before it has passed on that connection: what is not among it did not come.
 */
export async function check(
  space: string,
  [first, second]: [string, string],
  look: () => Journal,
  { sent, isLive, nameOf }: Hands,
): Promise<Outcome> {
  const type = await typeOf(space);
  const send = async (user: string, title: string) => {
    const draft: Draft = { to: [`user:${user}`], type, title, urgency: 'low' };
    const answer = await api(space).send<Sent>('POST', '/v1/notifications', draft);
    sent(draft, answer);
    return answer.id as string;
  };
  const before = look().wires[second]?.at(-1)?.number ?? 0;
  const secret = await send(first, `For ${nameOf(first)} alone`);
  const after = await send(second, `For ${nameOf(second)}, sent after it`);
  const legOf = (id: string) => look().legs.find((l) => l.id === id);
  const [got, followed] = await Promise.all([
    until(() => legOf(secret)?.got[first]),
    until(() => legOf(after)?.got[second]),
  ]);
  const passed = (look().wires[second] ?? []).filter((p) => p.way === 'to the device' && p.number > before);
  const carrying = passed.filter((p) => carries(p, secret));
  await Promise.all([secret, after].map((id) => api(space).send('DELETE', `/v1/notifications/${id}`)));
  if (!got || !followed) {
    const who = got ? second : first;
    const name = nameOf(who);
    return {
      holds: false,
      sentence: 'It could not be shown.',
      why: `What was sent to ${name} did not arrive within 10 seconds${isLive(who) ? '' : `: ${name} is not live`}.`,
    };
  }
  const leaked = carrying.length > 0 || legOf(secret)?.got[second];
  return leaked
    ? {
        holds: false,
        sentence: `${nameOf(second)} got it.`,
        why: `A notification for ${nameOf(first)} alone passed on the connection of ${nameOf(second)}. Tell the developers of Rovett at once.`,
      }
    : {
        holds: true,
        sentence: `${nameOf(second)} did not get it.`,
        why: `“For ${nameOf(first)} alone” arrived. The session of ${nameOf(second)} was live throughout and received what was sent after it. Meanwhile ${many(passed.length, 'message')} passed on it, and none carries the notification. Both were withdrawn.`,
      };
}
