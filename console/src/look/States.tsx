import { Button } from '@mantine/core';
import type { UseQueryResult } from '@tanstack/react-query';
import type { ReactNode } from 'react';
import { Refused } from '../api/door';
import { clock } from '../api/times';
import { Glyph } from './Glyph';
import styles from './States.module.css';

/** Bars in place of text that is still loading. */
export function Loading({ rows = 6 }: { rows?: number }) {
  return (
    <div className={styles.loading} role="status" aria-label="Loading">
      {Array.from({ length: rows }, (_, i) => (
        <i key={String(i)} />
      ))}
    </div>
  );
}

/** Says what will appear here, and how to get it. */
export function Empty({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <div className={styles.empty}>
      <h3>{title}</h3>
      {children && <div>{children}</div>}
    </div>
  );
}

/** An error; `shownAt` is when the data still on screen was fetched. */
export function Failed({ error, shownAt, onRetry }: { error: Error; shownAt?: number; onRetry?: () => void }) {
  const problem = error instanceof Refused ? error.problem : { title: error.name, detail: error.message };
  return (
    <div className={styles.failed} role="alert">
      <Glyph sign="denied" />
      <p>
        <b>{problem.title}.</b> {problem.detail} {'fix' in problem && problem.fix}
        {shownAt ? ` Shown: ${clock(new Date(shownAt).toISOString())}.` : ''}
      </p>
      {onRetry && (
        <Button variant="default" size="xs" onClick={onRetry}>
          Try again
        </Button>
      )}
    </div>
  );
}

/** What a query answered: loading bars before that, and any error above the last answer. */
export function Asked<T>({
  query,
  rows,
  isSaid,
  children,
}: {
  query: UseQueryResult<T>;
  rows?: number;
  /** The page says already what is wrong. */
  isSaid?: boolean;
  children: (value: T) => ReactNode;
}) {
  const { data, error, dataUpdatedAt, isPending, refetch } = query;
  return (
    <>
      {error && !isSaid && (
        <Failed error={error} shownAt={data === undefined ? undefined : dataUpdatedAt} onRetry={() => void refetch()} />
      )}
      {isPending && <Loading rows={rows} />}
      {data !== undefined && children(data)}
    </>
  );
}
