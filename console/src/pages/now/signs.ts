import { bytes, many } from '../../api/times';
import type { Facts } from '../../api/types';

export type Level = 'well' | 'watch' | 'wrong';

/** One of the signs of health. */
export interface Watched {
  name: string;
  fact: string;
  level: Level;
  /** The page with the details. */
  page: string;
  /** What it means and what to do, when it is not well. */
  why?: string;
}

/** The use from which on a limit is to watch. */
const near = 0.8;

/** To watch below 1 GB or a tenth of disk and history together; wrong below 100 MB. */
function store(facts: Facts): Watched {
  if (facts.freeBytes === undefined) {
    return { name: 'Store', fact: `${bytes(facts.historyBytes)} in PostgreSQL`, level: 'well', page: '/' };
  }
  const free = facts.freeBytes / (facts.freeBytes + facts.historyBytes);
  const little = facts.freeBytes < 1e9 || free < 0.1;
  const none = facts.freeBytes < 1e8;
  return {
    name: 'Store',
    fact: `${bytes(facts.freeBytes)} free`,
    level: none ? 'wrong' : little ? 'watch' : 'well',
    page: '/',
    why: little ? `the disk has ${bytes(facts.freeBytes)} left: make room, or keep less (keepFor)` : undefined,
  };
}

/** What brings events, and what is made of them. */
function events(facts: Facts): Watched {
  const { rulesFailed: failed, intakesWaiting: waiting } = facts;
  return {
    name: 'Events',
    fact: waiting > 0 ? `${waiting} waiting` : failed > 0 ? `${failed} failed` : many(facts.rules, 'rule'),
    level: waiting + failed > 0 ? 'watch' : 'well',
    page: waiting > 0 ? '/intakes' : failed > 0 ? '/set-aside' : '/rules',
    why: [
      waiting > 0 && many(waiting, 'intake waits for its source', 'intakes wait for their sources'),
      failed > 0 && `${many(failed, 'rule', 'rules')} failed for an event since the start`,
    ]
      .filter(Boolean)
      .join('; '),
  };
}

/** The nodes of a cluster; a service that has its store to itself has none. */
function nodes(facts: Facts): Watched[] {
  const serving = facts.nodes.filter((n) => n.state === 'serving').length;
  const silent = facts.nodes.filter((n) => n.state === 'silent').map((n) => n.node);
  const apart = facts.nodes.find((n) => n.unreached !== undefined);
  const lost = new Set(facts.nodes.flatMap((n) => n.unreached ?? [])).size;
  if (facts.nodes.length === 0) return [];
  return [
    {
      name: 'Nodes',
      fact: lost > 0 ? `${lost} out of reach` : `${serving} of ${facts.nodes.length} serve`,
      level: serving < facts.nodes.length || apart ? 'watch' : 'well',
      page: '/',
      why:
        silent.length > 0
          ? `${silent.join(', ')} ${silent.length === 1 ? 'is' : 'are'} not heard of: start it again`
          : apart
            ? `${apart.node} can't reach ${apart.unreached?.join(', ')}: check the network between them`
            : 'a node gives its spaces to the others',
    },
  ];
}

export function watchedOf(facts: Facts): Watched[] {
  const sessions = Object.values(facts.sessions).reduce((a, b) => a + b, 0);
  const fullest = facts.limits[0];
  const used = fullest ? fullest.used / fullest.limit : 0;
  return [
    { name: 'Sends', fact: `${facts.lastMinute} a minute`, level: 'well', page: '/activity' },
    { name: 'Sessions', fact: `${sessions} live`, level: 'well', page: '/people' },
    {
      name: 'Waiting',
      fact: facts.waiting === 0 ? 'none' : facts.waiting.toLocaleString('en-GB'),
      level: facts.waiting > 50 * Math.max(1, sessions) ? 'watch' : 'well',
      page: '/people',
      why: 'devices are slow to acknowledge what they were sent',
    },
    store(facts),
    {
      name: 'Set aside',
      fact: facts.setAside === 0 ? 'nothing' : `${facts.setAside} waiting`,
      level: facts.setAside > 0 ? 'watch' : 'well',
      page: '/set-aside',
      why: `${many(facts.setAside, 'thing', 'things')} could not be carried out and ${facts.setAside === 1 ? 'waits' : 'wait'} for you`,
    },
    events(facts),
    {
      name: 'Limits',
      fact: fullest ? `highest ${Math.round(used * 100)} %` : 'not in use',
      level: used >= 1 ? 'wrong' : used >= near ? 'watch' : 'well',
      page: '/',
      why: fullest && `the limit ${fullest.name} is ${Math.round(used * 100)} % used`,
    },
    {
      name: 'Faults',
      fact: facts.bugs + facts.storeFailures === 0 ? 'none' : `${facts.bugs + facts.storeFailures}`,
      level: facts.bugs + facts.storeFailures > 0 ? 'wrong' : 'well',
      page: '/',
      why: `the service met ${many(facts.bugs, 'bug')} and ${many(facts.storeFailures, 'failure')} of its store since it started: rovett status lists them`,
    },
    ...nodes(facts),
  ];
}

/** One sentence on whether all is well, and the reasons if it is not. */
export function verdictOf(watched: Watched[]): { level: Level; sentence: string; reasons: string } {
  const of = (level: Level) => watched.filter((w) => w.level === level);
  const [wrong, watch] = [of('wrong'), of('watch')];
  const reasons = [...wrong, ...watch].map((w) => w.why).join('; ');
  if (wrong.length > 0) return { level: 'wrong', sentence: 'It needs you.', reasons };
  if (watch.length > 0) {
    return {
      level: 'watch',
      sentence:
        watch.length === 1
          ? 'It is well, with one thing to watch.'
          : `It is well, with ${watch.length} things to watch.`,
      reasons,
    };
  }
  return { level: 'well', sentence: 'All is well.', reasons: '' };
}
