import { Button } from '@mantine/core';
import { useMutation, useQuery, useQueryClient } from '@tanstack/react-query';
import { Link } from 'wouter';
import { api } from '../../api/door';
import { ago, many } from '../../api/times';
import type { Intake, IntakeTest } from '../../api/types';
import { useHere } from '../../frame/facts';
import { Glyph, type Sign } from '../../look/Glyph';
import { Plank } from '../../look/Plank';
import { Asked, Empty, Failed } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Intakes.module.css';

const signs: Record<Intake['state'], Sign> = {
  starting: 'behind',
  running: 'live',
  waiting: 'watch',
  paused: 'silent',
  ended: 'stored',
  stopped: 'stored',
};

/** The sources that events are taken from: whether they are read, how fast, and what waits there. */
export function Intakes() {
  const { space } = useHere();
  const list = useQuery({
    queryKey: [space, 'intakes'],
    queryFn: () => api(space).get<{ intakes: Intake[] }>('/v1/intakes'),
    refetchInterval: 2000,
  });
  return <Asked query={list}>{({ intakes }) => <Shown intakes={intakes} />}</Asked>;
}

function Shown({ intakes }: { intakes: Intake[] }) {
  const waiting = intakes.filter((i) => i.state === 'waiting');
  const paused = intakes.filter((i) => i.state === 'paused');
  return (
    <>
      <Plank tone="open">
        <h1>{verdict(intakes.length, waiting.length, paused.length)}</h1>
        <p className={styles.lead}>
          {waiting.length > 0
            ? `${waiting.length === 1 ? 'It tries again by itself' : 'They try again by themselves'}; events wait at the source meanwhile.`
            : 'Outboxes, brokers, lines and schedules that events are taken from, beside the requests of backends.'}
        </p>
      </Plank>
      <Plank>
        {intakes.length === 0 ? (
          <Empty title="No intakes">
            They are configured in a file of the service: <code>rovett serve --intakes intakes.yaml</code>.
          </Empty>
        ) : (
          <table className={table.table}>
            <thead>
              <tr>
                <th>Intake</th>
                <th className={`${table.number} ${table.wide}`}>A second</th>
                <th className={table.number}>Events</th>
                <th className={table.number}>Waiting there</th>
                <th className={`${table.wide} ${styles.last}`}>Last</th>
                <th className={styles.acts}>
                  <span className={styles.of}>What you can do</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {intakes.map((intake) => (
                <Row key={intake.name} intake={intake} />
              ))}
            </tbody>
          </table>
        )}
      </Plank>
    </>
  );
}

function verdict(all: number, waiting: number, paused: number): string {
  if (all === 0) return 'Events come by requests alone.';
  if (waiting > 0) return `${many(waiting, 'intake waits for its source', 'intakes wait for their sources')}.`;
  if (paused > 0) return `${many(paused, 'intake is', 'intakes are')} paused.`;
  return all === 1 ? 'The intake runs.' : all === 2 ? 'Both intakes run.' : `All ${all} intakes run.`;
}

function Row({ intake }: { intake: Intake }) {
  const { space, mayOperate } = useHere();
  const queries = useQueryClient();
  const path = `/v1/intakes/${encodeURIComponent(intake.name)}`;
  const turn = useMutation({
    mutationFn: (word: 'pause' | 'resume') => api(space).send('POST', `${path}/${word}`),
    onSettled: () => queries.invalidateQueries({ queryKey: [space, 'intakes'] }),
  });
  const test = useMutation({ mutationFn: () => api(space).send<IntakeTest>('POST', `${path}/test`) });
  const isPaused = intake.state === 'paused';
  return (
    <tr>
      <th scope="row">
        <Glyph sign={signs[intake.state]} /> {intake.name} <span className={styles.state}>{intake.state}</span>
        <small>
          {intake.kind}, {intake.from}
        </small>
        {intake.reason && <small className={styles.reason}>{intake.reason}</small>}
        {intake.lost && <small className={styles.reason}>{intake.lost}</small>}
        {intake.setAside > 0 && (
          <small>
            <Link href="/set-aside">{intake.setAside} set aside</Link>, the last one: {intake.lastReason}
          </small>
        )}
        {test.data && (
          <small role="status">
            {test.data.works ? test.data.found.join('; ') : <span className={styles.reason}>{test.data.reason}</span>}
          </small>
        )}
        {(turn.error ?? test.error) && <Failed error={(turn.error ?? test.error) as Error} />}
      </th>
      <td className={`${table.number} ${table.wide}`}>
        {intake.perSecond.toLocaleString('en-GB', { maximumFractionDigits: 1 })}
      </td>
      <td className={table.number}>{intake.events.toLocaleString('en-GB')}</td>
      <td className={table.number}>{intake.behind?.toLocaleString('en-GB') ?? '–'}</td>
      <td className={`${table.wide} ${table.dim} ${styles.last}`}>
        {intake.lastTaken ? ago(intake.lastTaken) : 'nothing yet'}
        {intake.lagMs !== undefined && <small>{intake.lagMs} ms after the source had it</small>}
      </td>
      <td className={styles.acts}>
        {mayOperate && (
          <>
            <Button
              size="compact-sm"
              variant="default"
              loading={turn.isPending}
              onClick={() => turn.mutate(isPaused ? 'resume' : 'pause')}
            >
              {isPaused ? 'Resume' : 'Pause'}
              <span className={styles.of}> {intake.name}</span>
            </Button>
            <Button size="compact-sm" variant="default" loading={test.isPending} onClick={() => test.mutate()}>
              Test<span className={styles.of}> {intake.name}</span>
            </Button>
          </>
        )}
      </td>
    </tr>
  );
}
