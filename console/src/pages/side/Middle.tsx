import { clock, length, many } from '../../api/times';
import { Glyph } from '../../look/Glyph';
import type { Leg } from './journal';
import styles from './Side.module.css';

/** What became of a notification for one of the two. */
function End({ leg, user, name, isLive }: { leg: Leg; user: string; name: string; isLive: boolean }) {
  const got = leg.got[user];
  if (got) {
    return (
      <span className={styles.end} data-end="received">
        <Glyph sign="received" size={20} /> {length(Math.max(0, got.at - leg.at))}
      </span>
    );
  }
  if (leg.isFor[user] === false) {
    return (
      <span className={styles.end} data-end="not for">
        <Glyph sign="unmet" size={20} /> not for {name}
      </span>
    );
  }
  return (
    <span className={styles.end} data-end="waiting">
      <Glyph sign={isLive ? 'dispatched' : 'stored'} size={20} /> {isLive ? 'on its way' : 'waits in the inbox'}
    </span>
  );
}

/** Between sender and receivers: each notification with a line to each of the two. */
export function Middle({
  legs,
  users,
  live,
  nameOf,
}: {
  legs: Leg[];
  users: [string, string];
  live: Record<string, boolean>;
  nameOf: (user: string) => string;
}) {
  const all = legs.flatMap((l) => Object.values(l.got).map((g) => ({ took: g.at - l.at, isOwn: l.isOwn })));
  // What was sent before the two were there took as long as they were away.
  const times = all
    .filter((t) => t.isOwn)
    .map((t) => t.took)
    .sort((a, b) => a - b);
  const half = times[Math.floor((times.length - 1) / 2)];
  return (
    <section className={styles.middle} aria-label="The middle">
      <div className={styles.middleHead}>
        <h2>The middle</h2>
        <span>
          {many(legs.length, 'notification')}, {many(all.length, 'delivery', 'deliveries')}
          {half !== undefined && `, half within ${length(Math.max(0, half))}`}
        </span>
      </div>
      <div className={styles.lanes} aria-hidden="true">
        <span>back office</span>
        {users.map((user, i) => (
          <span key={String(i)}>{user ? nameOf(user) : '–'}</span>
        ))}
      </div>
      {legs.length === 0 && <p className={styles.nothing}>Send something: it passes here, and on to whom it is for.</p>}
      <ol className={styles.legs} aria-live="polite">
        {legs.slice(0, 8).map((leg) => (
          <li key={leg.id} className={styles.leg}>
            <p className={styles.about}>
              <b>{leg.title}</b>
              <span>
                {clock(new Date(leg.at).toISOString())} · {leg.to}
              </span>
            </p>
            <div className={styles.line}>
              <svg viewBox="0 0 12 12" width="12" height="12" aria-hidden="true" className={styles.nail}>
                <path d="M6 0 12 6 6 12 0 6z" />
              </svg>
              {users.map((user, i) => (
                <div key={String(i)} className={user && leg.got[user] ? styles.arrived : styles.open}>
                  {user && (
                    <End
                      leg={leg}
                      user={user}
                      name={nameOf(user).split(' ')[0] as string}
                      isLive={live[user] ?? false}
                    />
                  )}
                </div>
              ))}
            </div>
          </li>
        ))}
      </ol>
    </section>
  );
}
