import styles from './Now.module.css';
import type { Watched } from './signs';

const turn = (angle: number, radius: number) => {
  const at = ((angle - 90) * Math.PI) / 180;
  return `${(80 + radius * Math.cos(at)).toFixed(2)} ${(80 + radius * Math.sin(at)).toFixed(2)}`;
};

/** A sector: well keeps the circle, to watch bulges, wrong points outwards. */
function sector(level: Watched['level'], from: number, to: number): string {
  const [inner, outer] = [40, 62];
  const rim =
    level === 'wrong'
      ? `L ${turn((from + to) / 2, 79)} L ${turn(to, outer)}`
      : `A ${level === 'watch' ? '26 26' : `${outer} ${outer}`} 0 0 1 ${turn(to, outer)}`;
  return `M ${turn(from, inner)} L ${turn(from, outer)} ${rim} L ${turn(to, inner)} A ${inner} ${inner} 0 0 0 ${turn(from, inner)} Z`;
}

/** A ring with one sector for each sign; the centre counts those that are well. */
export function Rose({ watched }: { watched: Watched[] }) {
  const each = 360 / watched.length;
  const well = watched.filter((w) => w.level === 'well').length;
  return (
    <svg className={styles.rose} viewBox="0 0 160 160" role="img" aria-label={`${well} of ${watched.length} are well`}>
      {watched.map((w, i) => (
        <path key={w.name} className={styles[w.level]} d={sector(w.level, i * each + 2, (i + 1) * each - 2)} />
      ))}
      <path className={styles.nail} d="M80 44 116 80 80 116 44 80Z" />
      <text className={styles.counts} x="80" y="87" textAnchor="middle">
        {well}
        <tspan className={styles.of}>/{watched.length}</tspan>
      </text>
    </svg>
  );
}
