import { Glyph, type Sign } from './Glyph';
import styles from './Rings.module.css';

export interface Progress {
  /** How many people it is for. */
  of: number;
  read: number;
  handled: number;
  received: number;
  dispatched?: number;
}

const most = 12;

/** How many people are at each state, the furthest first. Who has read it has received it. */
function parts({ of, read, handled, received, dispatched = 0 }: Progress): [Sign, number][] {
  const beyond = Math.max(read, handled);
  const people = Math.max(of, received, read);
  const atReceived = Math.max(0, received - beyond);
  const onTheWay = Math.min(Math.max(0, dispatched - Math.max(received, beyond)), people - beyond - atReceived);
  const all: [Sign, number][] = [
    ['read', read],
    ['handled', Math.max(0, handled - read)],
    ['received', atReceived],
    ['dispatched', onTheWay],
    ['stored', Math.max(0, people - beyond - atReceived - onTheWay)],
  ];
  return all.filter(([, count]) => count > 0);
}

const words = (progress: Progress) =>
  parts(progress)
    .map(([sign, count]) => `${count} ${sign}`)
    .join(', ');

/** One ring a person, in the order of progress; a bar in the same order for more than twelve. */
export function Rings({ progress }: { progress: Progress }) {
  const shown = parts(progress);
  const people = shown.reduce((sum, [, count]) => sum + count, 0);
  if (people === 0) return null;
  if (people > most) {
    return (
      <span className={styles.bar} role="img" aria-label={words(progress)}>
        {shown.map(([sign, count]) => (
          // The widths are set by an attribute, since the page's policy takes no inline styles.
          <svg
            key={sign}
            className={styles[sign]}
            width={Math.max(4, Math.round((count / people) * 96))}
            height="12"
            aria-hidden="true"
          >
            <rect width="100%" height="12" rx="2" />
          </svg>
        ))}
      </span>
    );
  }
  return (
    <span className={styles.rings} role="img" aria-label={words(progress)}>
      {shown.flatMap(([sign, count]) =>
        Array.from({ length: count }, (_, i) => <Glyph key={`${sign}${String(i)}`} sign={sign} size={14} />),
      )}
    </span>
  );
}
