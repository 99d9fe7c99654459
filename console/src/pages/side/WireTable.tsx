import { SegmentedControl } from '@mantine/core';
import { useState } from 'react';
import { many } from '../../api/times';
import { Head, Plank } from '../../look/Plank';
import table from '../../look/Table.module.css';
import { saying } from './journal';
import { transportNames } from './Receiver';
import styles from './Side.module.css';
import type { Passed } from './wire';

const shown = 40;

/** The messages of one of the two as they passed. */
export function Messages({ users, wires }: { users: [string, string]; wires: Record<string, Passed[]> }) {
  const [at, setAt] = useState('0');
  const user = users[Number(at)] ?? '';
  const passed = wires[user] ?? [];
  return (
    <Plank>
      <Head
        title="Messages on the wire"
        beside={passed.length > shown ? `the newest ${shown} of ${passed.length}` : many(passed.length, 'message')}
        end={
          <SegmentedControl
            size="xs"
            aria-label="Whose messages"
            data={users.map((u, i) => ({ value: String(i), label: u || '–' }))}
            value={at}
            onChange={setAt}
          />
        }
      />
      <div className={styles.scroll}>
        <table className={table.table}>
          <thead>
            <tr>
              <th>Time</th>
              <th>Way</th>
              <th>Over</th>
              <th>Kind</th>
              <th>What it says</th>
              <th className={table.number}>Bytes</th>
            </tr>
          </thead>
          <tbody>
            {[...passed]
              .reverse()
              .slice(0, shown)
              .map((p) => {
                const { kind, says } = saying(p);
                return (
                  <tr key={p.number}>
                    <th scope="row">{exact(p.time)}</th>
                    <td>{p.way}</td>
                    <td>{transportNames[p.transport]}</td>
                    <td>{kind}</td>
                    <td className={styles.says}>{says}</td>
                    <td className={table.number}>{new TextEncoder().encode(p.text).length}</td>
                  </tr>
                );
              })}
          </tbody>
        </table>
      </div>
      {passed.length === 0 && <p className={styles.quiet}>Nothing has passed yet.</p>}
    </Plank>
  );
}

/** With milliseconds. */
function exact(time: number): string {
  const date = new Date(time);
  return `${date.toLocaleTimeString('en-GB')}.${String(date.getMilliseconds()).padStart(3, '0')}`;
}
