import type { ReactNode } from 'react';
import { Link } from 'wouter';
import styles from './Split.module.css';

export interface SplitProps {
  /** A row is chosen: a phone shows its detail in place of the list. */
  isOpen: boolean;
  list: ReactNode;
  detail: ReactNode;
  /** The names of both parts for screen readers. */
  names: { list: string; detail: string };
  /** Where the list is. */
  back: { href: string; name: string };
}

/** A list with the chosen row's detail beside it; on a small screen one at a time. */
export function Split({ isOpen, list, detail, names, back }: SplitProps) {
  return (
    <div className={`${styles.split} ${isOpen ? styles.open : ''}`}>
      <section className={styles.list} aria-label={names.list}>
        {list}
      </section>
      <section className={`${styles.detail} ${isOpen ? '' : styles.none}`} aria-label={names.detail}>
        {isOpen && (
          <Link className={styles.back} href={back.href}>
            Back to {back.name}
          </Link>
        )}
        {detail}
      </section>
    </div>
  );
}

/** The list's heading. Once a row is chosen, the detail has the page's only h1. */
export function ListTitle({ children, isOpen }: { children: ReactNode; isOpen: boolean }) {
  return isOpen ? <p className={styles.title}>{children}</p> : <h1 className={styles.title}>{children}</h1>;
}

/** The style of a row that links to its detail. */
export const rowStyle = styles.row;
