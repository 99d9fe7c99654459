import type { ReactNode } from 'react';
import styles from './Plank.module.css';

/** A full-width band that laps the one above. */
export function Plank({ children, tone = 'sheet' }: { children: ReactNode; tone?: 'open' | 'sheet' | 'sunken' }) {
  return <section className={`${styles.plank} ${styles[tone]}`}>{children}</section>;
}

/** A small word with what it is for before it. */
export function Chip({ of, children }: { of?: string; children: ReactNode }) {
  return (
    <span className={styles.chip}>
      {of && <i>{of}</i>}
      {children}
    </span>
  );
}

/** The first words of a band, with what may be done at its end. */
export function Head({ title, beside, end }: { title: ReactNode; beside?: ReactNode; end?: ReactNode }) {
  return (
    <div className={styles.head}>
      <h2>{title}</h2>
      {beside && <span className={styles.beside}>{beside}</span>}
      {end && <span className={styles.end}>{end}</span>}
    </div>
  );
}
