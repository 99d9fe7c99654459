import { lazy, Suspense, useEffect } from 'react';
import { Link } from 'wouter';
import { ago, length, many, when } from '../../api/times';
import type { Act, Facts, Limit, Node } from '../../api/types';
import { useFacts, useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { Head, Plank } from '../../look/Plank';
import { Asked, Loading } from '../../look/States';
import styles from './Now.module.css';
import { Rose } from './Rose';
import { type Level, verdictOf, watchedOf } from './signs';
import { useMeters } from './useMeters';

const loadTraces = () => import('./Traces');
const Traces = lazy(loadTraces);

const signs: Record<Level, Sign> = { well: 'live', watch: 'watch', wrong: 'denied' };

/** Is it well? The answer, the reasons, and what changed lately. */
export function Now() {
  // Both beside the facts, not after them. Should the charts fail to load, it is tried again where they are shown, which says so.
  useMeters('15m');
  const asked = useFacts();
  useEffect(() => void loadTraces().catch(() => undefined), []);
  return (
    <Asked query={asked}>
      {(facts) => (
        <>
          <Verdict facts={facts} />
          <Suspense fallback={<Loading />}>
            <Traces facts={facts} isSaid={asked.error !== null} />
          </Suspense>
          {facts.nodes.length > 0 && (
            <Plank>
              <Nodes nodes={facts.nodes} serves={facts.node} />
            </Plank>
          )}
          <Plank tone="sunken">
            <div className={styles.pair}>
              <Limits limits={facts.limits} />
              <Changed changed={facts.changed} since={facts.since} />
            </div>
          </Plank>
        </>
      )}
    </Asked>
  );
}

function Verdict({ facts }: { facts: Facts }) {
  const watched = watchedOf(facts);
  const { sentence, reasons } = verdictOf(watched);
  const devices = Object.values(facts.sessions).reduce((a, b) => a + b, 0);
  return (
    <div className={styles.verdictBand}>
      <Rose watched={watched} />
      <div>
        <h1 className={styles.verdict}>{sentence}</h1>
        <p className={styles.reasons}>
          <b>{facts.live === 0 ? 'Nobody is' : many(facts.live, 'person is', 'people are')}</b> live
          {facts.live > 0 && ` on ${many(devices, 'device')}`}. <b>{facts.sent.toLocaleString('en-GB')}</b>{' '}
          {facts.sent === 1 ? 'notification was' : 'notifications were'} sent since the start {ago(facts.since)}
          <Arrived />. {reasons && `To watch: ${reasons}.`}
        </p>
      </div>
      <ul className={styles.signs}>
        {watched.map((w) => (
          <li key={w.name}>
            <Glyph sign={signs[w.level]} label={{ well: 'well', watch: 'to watch', wrong: 'wrong' }[w.level]} />
            {w.page === '/' ? <span>{w.name}</span> : <Link href={w.page}>{w.name}</Link>}
            <span className={styles[`${w.level}Fact`]}>{w.fact}</span>
          </li>
        ))}
      </ul>
    </div>
  );
}

/** How fast what was sent arrived. */
function Arrived() {
  const meters = useMeters('15m').data;
  if (meters?.delayP50 === undefined) return null;
  return (
    <>
      ; of those of the last 15 minutes, half arrived within <b>{length(meters.delayP50 * 1000)}</b>
    </>
  );
}

const states: Record<Node['state'], Sign> = { serving: 'live', leaving: 'watch', 'cut-off': 'watch', silent: 'denied' };

function Nodes({ nodes, serves }: { nodes: Node[]; serves?: string }) {
  const { space } = useHere();
  return (
    <div>
      <Head title="Nodes" />
      <ul>
        {nodes.map((node) => (
          <li key={node.node} className={styles.node}>
            <Glyph sign={states[node.state]} label={node.state} />
            <b>{node.node}</b>
            <span>{node.state}</span>
            <span>
              {many(node.spaces, 'space')}
              {node.node === serves && `, with ${space}`}
            </span>
            <small>
              version {node.version}, since <time title={node.since}>{when(node.since)}</time>
              {node.unreached && `; can't reach ${node.unreached.join(', ')}`}
            </small>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Limits({ limits }: { limits: Limit[] }) {
  return (
    <div>
      <Head title="Limits nearest their end" />
      {limits.length === 0 && <p className={styles.quiet}>No limit is in use.</p>}
      <ul>
        {limits.map((limit) => (
          <li key={limit.name} className={styles.limit}>
            <span>
              <b>{limit.name}</b>
              <small>{limit.what}</small>
            </span>
            <svg width="120" height="8" aria-hidden="true">
              <rect className={styles.whole} width="120" height="8" rx="2" />
              <rect className={styles.part} width={Math.min(120, (120 * limit.used) / limit.limit)} height="8" rx="2" />
            </svg>
            <span className={styles.number}>
              {limit.used.toLocaleString('en-GB')} of {limit.limit.toLocaleString('en-GB')}
            </span>
          </li>
        ))}
      </ul>
    </div>
  );
}

function Changed({ changed, since }: { changed: Act[]; since: string }) {
  const { space } = useHere();
  return (
    <div>
      <Head title="Changed lately" end={<Link href="/operators">Audit log</Link>} />
      <ul>
        {changed.map((act) => (
          <li key={act.number} className={styles.change}>
            <time title={act.time}>{when(act.time)}</time>
            <span>
              {act.act} {act.about !== space && <b>{act.about}</b>}
              <small>{act.actor}</small>
            </span>
          </li>
        ))}
        <li className={styles.change}>
          <time title={since}>{when(since)}</time>
          <span>service started</span>
        </li>
      </ul>
    </div>
  );
}
