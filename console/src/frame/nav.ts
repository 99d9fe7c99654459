import { many } from '../api/times';
import type { Facts } from '../api/types';
import type { Sign } from '../look/Glyph';

/** A page with the one fact that its name carries everywhere. */
export interface Entry {
  path: string;
  name: string;
  /** Words that Find knows it by as well. */
  also: string;
  fact: (facts: Facts) => { text: string; sign?: Sign };
}

/** Whether it is well, and what is not. */
export function watched(facts: Facts): { sign: Sign; text: string } {
  if (facts.bugs + facts.storeFailures > 0) return { sign: 'denied', text: 'needs you' };
  if (facts.setAside + facts.intakesWaiting > 0) return { sign: 'watch', text: 'to watch' };
  return { sign: 'live', text: 'well' };
}

export const entries: Entry[] = [
  { path: '/', name: 'Now', also: 'status health well limits', fact: watched },
  {
    path: '/activity',
    name: 'Activity',
    also: 'notifications sent story search',
    fact: (f) => ({ text: `${f.lastMinute} a minute` }),
  },
  {
    path: '/people',
    name: 'People',
    also: 'users devices sessions',
    fact: (f) => ({ text: `${f.live} of ${f.people} live` }),
  },
  {
    path: '/channels',
    name: 'Channels',
    also: 'roles topics access policies grants denied',
    fact: (f) => ({ text: many(f.channels, 'in use', 'in use') }),
  },
  {
    path: '/side',
    name: 'Side by side',
    also: 'send test try receive privacy block WebSocket fall back wire',
    fact: () => ({ text: 'ready' }),
  },
  {
    path: '/rules',
    name: 'Rules',
    also: 'events templates try editor YAML',
    fact: (f) => ({
      text: f.rulesVersion === 0 ? 'none yet' : `${f.rules}, version ${f.rulesVersion}`,
      ...(f.rulesFailed > 0 && { sign: 'watch' as const }),
    }),
  },
  {
    path: '/intakes',
    name: 'Intakes',
    also: 'sources outbox broker queue stream lines schedule pause',
    fact: (f) =>
      f.intakesWaiting > 0
        ? { text: `${f.intakesWaiting} waiting`, sign: 'watch' }
        : { text: f.intakes === 0 ? 'none' : many(f.intakes, 'source') },
  },
  {
    path: '/setup',
    name: 'Set up',
    also: 'keys signing origins limits webhooks deciders spaces snippets first steps',
    fact: (f) => ({ text: f.steps.length === 7 ? 'all done' : `${f.steps.length} of 7 steps` }),
  },
  {
    path: '/set-aside',
    name: 'Set aside',
    also: 'failed retry drop',
    fact: (f) => (f.setAside > 0 ? { text: `${f.setAside} waiting`, sign: 'aside' } : { text: 'nothing' }),
  },
  {
    path: '/operators',
    name: 'Operators',
    also: 'sign in audit invite',
    fact: (f) => ({ text: many(f.operators, 'operator') }),
  },
];
