import { SegmentedControl, Switch } from '@mantine/core';
import { type ReactNode, useEffect, useMemo, useState } from 'react';
import { Area, AreaChart, Bar, BarChart, ReferenceLine, Tooltip, XAxis, YAxis } from 'recharts';
import { useSearchParams } from 'wouter';
import { bytes, many } from '../../api/times';
import type { Facts, Meters } from '../../api/types';
import { Head, Plank } from '../../look/Plank';
import { Asked } from '../../look/States';
import table from '../../look/Table.module.css';
import styles from './Traces.module.css';
import {
  delay,
  highest,
  isOver,
  liveAt,
  type Mark,
  marksOf,
  type Over,
  type Point,
  pointsOf,
  rate,
  tickOf,
  timeOf,
  windows,
} from './traces';
import { useMeters } from './useMeters';

/** Traces on one scale of time, with the changes through all of them; `isSaid`: the page says already what is wrong. */
export default function Traces({ facts, isSaid }: { facts: Facts; isSaid: boolean }) {
  const [params, setParams] = useSearchParams();
  const asked = params.get('over');
  const over = isOver(asked) ? asked : '15m';
  const [asTable, setAsTable] = useState(false);
  const meters = useMeters(over);
  return (
    <Plank>
      <Head
        title={windows.find((w) => w.value === over)?.title}
        beside="one scale of time, newest at the right"
        end={
          <span className={styles.choose}>
            <Switch
              size="xs"
              label="As a table"
              checked={asTable}
              onChange={(e) => setAsTable(e.currentTarget.checked)}
            />
            <SegmentedControl
              size="xs"
              aria-label="How far back"
              data={windows.map(({ value, label }) => ({ value, label }))}
              value={over}
              onChange={(value) => setParams(value === '15m' ? {} : { over: value }, { replace: true })}
            />
          </span>
        }
      />
      <Asked query={meters} isSaid={isSaid}>
        {(value) =>
          asTable ? <AsTable meters={value} over={value.over as Over} /> : <Rows meters={value} facts={facts} />
        }
      </Asked>
    </Plank>
  );
}

interface Row {
  name: string;
  what: string;
  /** The number now, or where the crosshair is. */
  number: (p: Point | null) => string;
  unit: string;
  beside: ReactNode;
  says: string;
  chart: ReactNode;
}

const height = 56;

function Rows({ meters, facts }: { meters: Meters; facts: Facts }) {
  const over = meters.over as Over;
  const points = useMemo(() => pointsOf(meters), [meters]);
  const marks = useMemo(() => marksOf(meters), [meters]);
  const [hovered, setHovered] = useState<number | null>(null);
  const pointed = hovered === null ? null : (points[hovered] ?? null);
  const domain: [number, number] = [points[0]?.at ?? 0, points.at(-1)?.at ?? 1];
  const frame = (kind: 'area' | 'bar', children: ReactNode, top?: number) => {
    const shared = {
      data: points,
      syncId: 'now',
      responsive: true,
      width: '100%' as const,
      height,
      margin: { top: 6, right: 0, bottom: 0, left: 0 },
      accessibilityLayer: false,
      onMouseMove: ({ activeTooltipIndex: i }: { activeTooltipIndex?: number | string | null }) =>
        setHovered(i === undefined || i === null ? null : Number(i)),
      onMouseLeave: () => setHovered(null),
    };
    const inside = (
      <>
        <XAxis hide dataKey="at" type="number" domain={domain} scale="time" />
        <YAxis hide domain={[0, top ?? 'auto']} />
        <Tooltip content={() => null} cursor={{ className: styles.crosshair }} isAnimationActive={false} />
        {marks.map((m) => (
          <ReferenceLine key={m.at} x={m.at} className={styles.mark} />
        ))}
        {children}
      </>
    );
    return kind === 'area' ? <AreaChart {...shared}>{inside}</AreaChart> : <BarChart {...shared}>{inside}</BarChart>;
  };
  const rows = rowsOf(points, meters, facts, over, frame);
  const drawn = useOneByOne(rows.length);
  return (
    <>
      <Marks marks={marks} domain={domain} />
      <div className={styles.rows}>
        {rows.map((row, i) => (
          <figure key={row.name} className={styles.row}>
            <figcaption className={styles.name}>
              <b>{row.name}</b>
              <span>{row.what}</span>
            </figcaption>
            <p className={styles.number}>
              <b>{row.number(pointed)}</b>
              <span>{pointed ? timeOf(pointed.at, over) : row.unit}</span>
            </p>
            <div className={styles.trace} role="img" aria-label={row.says}>
              {i < drawn && row.chart}
            </div>
            <p className={styles.beside}>{row.beside}</p>
          </figure>
        ))}
      </div>
      <div className={styles.scale} aria-hidden="true">
        {[0, 0.2, 0.4, 0.6, 0.8, 1].map((part) => (
          <span key={part}>{tickOf(domain[0] + part * (domain[1] - domain[0]), over)}</span>
        ))}
      </div>
    </>
  );
}

/** How many are drawn so far: one more with each turn, so that the numbers need not wait for the drawings. */
function useOneByOne(all: number): number {
  const [drawn, setDrawn] = useState(1);
  useEffect(() => {
    if (drawn >= all) return;
    const next = setTimeout(() => setDrawn(drawn + 1));
    return () => clearTimeout(next);
  }, [drawn, all]);
  return Math.min(drawn, all);
}

/** What was changed, above its line. */
function Marks({ marks, domain }: { marks: Mark[]; domain: [number, number] }) {
  return (
    <div className={styles.marks}>
      {marks.map((m) => {
        const part = (m.at - domain[0]) / (domain[1] - domain[0]);
        return (
          <span
            key={m.at}
            className={part > 0.7 ? styles.before : undefined}
            style={{ left: `${Math.min(100, Math.max(0, part * 100))}%` }}
          >
            {m.text}
          </span>
        );
      })}
    </div>
  );
}

const area = { type: 'linear' as const, isAnimationActive: false, dot: false, activeDot: false };

function rowsOf(
  points: Point[],
  meters: Meters,
  facts: Facts,
  over: Over,
  frame: (kind: 'area' | 'bar', children: ReactNode, top?: number) => ReactNode,
): Row[] {
  const [sends, received] = [highest(points, (p) => p.sends), highest(points, (p) => p.received)];
  const waiting = highest(points, (p) => p.waiting);
  const refused = points.reduce((sum, p) => sum + p.refused, 0);
  const all = (of: (s: Meters['steps'][number]) => number) => meters.steps.reduce((sum, s) => sum + of(s), 0);
  const perSend =
    all((s) => s.received) /
    Math.max(
      1,
      all((s) => s.sends),
    );
  const latest = lastMinute(points, meters.stepSeconds);
  const now = Object.values(facts.sessions).reduce((a, b) => a + b, 0);
  const [p50, p99] = [meters.delayP50, meters.delayP99].map((s) => (s === undefined ? null : s * 1000)) as [
    number | null,
    number | null,
  ];
  const at = (best: { value: number; at: number } | null, words: string, none: string) =>
    best ? (
      <>
        highest {words}
        <br />
        at {timeOf(best.at, over)}
      </>
    ) : (
      none
    );
  const free = facts.freeBytes === undefined ? 'in PostgreSQL' : `${bytes(facts.freeBytes)} free`;
  return [
    {
      name: 'Sessions',
      what: 'WebSocket, SSE, long poll',
      number: (p) => (p ? liveAt(p) : now).toLocaleString('en-GB'),
      unit: 'live',
      beside: (
        <>
          {facts.sessions.websocket ?? 0} WebSocket
          <br />
          {facts.sessions.sse ?? 0} SSE, {facts.sessions['long-poll'] ?? 0} long poll
        </>
      ),
      says: `Sessions: ${now} live, at most ${highest(points, liveAt)?.value ?? 0} in this time.`,
      chart: frame(
        'area',
        <>
          <Area {...area} dataKey="longPoll" stackId="live" className={styles.slate} />
          <Area {...area} dataKey="sse" stackId="live" className={styles.slateLight} />
          <Area {...area} dataKey="websocket" stackId="live" className={styles.well} />
        </>,
      ),
    },
    {
      name: 'Sends',
      what: 'accepted from backends',
      number: (p) => rate(p ? p.sends : latest((q) => q.sends)),
      unit: 'a minute',
      beside: at(sends, rate(sends?.value ?? 0), 'none in this time'),
      says: `Sends: ${all((s) => s.sends)} in this time.`,
      chart: frame('area', <Area {...area} dataKey="sends" className={styles.well} />),
    },
    {
      name: 'Deliveries',
      what: 'received, once for each person',
      number: (p) => rate(p ? p.received : latest((q) => q.received)),
      unit: 'a minute',
      beside: received ? (
        <>
          {perSend === 1 ? '1 person' : `${rate(perSend)} people`}
          <br />
          for each send
        </>
      ) : (
        'none in this time'
      ),
      says: `Deliveries: ${all((s) => s.received)} in this time.`,
      chart: frame('area', <Area {...area} dataKey="received" className={styles.well} />),
    },
    {
      name: 'Send to received',
      what: 'p50, and p99 above it',
      number: (p) => delay(p ? p.p50 : p50),
      unit: 'half within',
      beside:
        p99 === null ? (
          'nothing was received'
        ) : (
          <>
            99 of 100
            <br />
            within {delay(p99)}
          </>
        ),
      says: `Send to received: half within ${delay(p50)}, 99 of 100 within ${delay(p99)}.`,
      chart: frame(
        'area',
        <>
          <Area {...area} connectNulls dataKey="p99" className={styles.slateLine} />
          <Area {...area} connectNulls dataKey="p50" className={styles.well} />
        </>,
      ),
    },
    {
      name: 'Waiting',
      what: 'sent, not acknowledged',
      number: (p) => (p ? (p.waiting ?? '–') : facts.waiting).toLocaleString('en-GB'),
      unit: 'notifications',
      beside: at(waiting, (waiting?.value ?? 0).toLocaleString('en-GB'), 'never any'),
      says: `Waiting for an acknowledgement: ${facts.waiting} now, at most ${waiting?.value ?? 0}.`,
      chart: frame('area', <Area {...area} dataKey="waiting" className={styles.copper} />),
    },
    {
      name: 'Refusals',
      what: 'requests that were refused',
      number: (p) => (p ? p.refused : refused).toLocaleString('en-GB'),
      unit: 'in this time',
      beside:
        facts.originsRefused > 0
          ? many(facts.originsRefused, 'origin refused', 'origins refused')
          : 'no origin refused',
      says: `Refusals: ${refused} in this time.`,
      chart: frame('bar', <Bar isAnimationActive={false} dataKey="refused" barSize={3} className={styles.refusal} />),
    },
    {
      name: 'Store',
      what: 'bytes of the history',
      number: (p) => bytes(p ? (p.store ?? 0) : facts.historyBytes),
      unit: 'on disk',
      beside: free,
      says: `Store: ${bytes(facts.historyBytes)}, ${free}.`,
      chart: frame('area', <Area {...area} dataKey="store" className={styles.slateLine} />),
    },
  ];
}

/** The rate over the last whole minute, or the last whole step where steps are longer. */
function lastMinute(points: Point[], stepSeconds: number) {
  const steps = Math.max(1, Math.round(60 / stepSeconds));
  const last = points.slice(-steps - 1, -1);
  return (of: (p: Point) => number | null) => last.reduce((sum, p) => sum + (of(p) ?? 0), 0) / Math.max(1, last.length);
}

function AsTable({ meters, over }: { meters: Meters; over: Over }) {
  const steps = pointsOf(meters)
    .filter((p) => p.store !== null)
    .reverse();
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what scrolls must be reachable by keyboard.
    <section className={styles.table} aria-label="What the meters counted" tabIndex={0}>
      <table className={table.table}>
        <thead>
          <tr>
            <th>From</th>
            <th className={table.number}>Sessions</th>
            <th className={table.number}>Sends a minute</th>
            <th className={table.number}>Received a minute</th>
            <th className={table.number}>p50</th>
            <th className={table.number}>p99</th>
            <th className={table.number}>Waiting</th>
            <th className={table.number}>Refused</th>
          </tr>
        </thead>
        <tbody>
          {steps.map((p) => (
            <tr key={p.at}>
              <th scope="row">{timeOf(p.at, over)}</th>
              <td className={table.number}>{liveAt(p)}</td>
              <td className={table.number}>{rate(p.sends)}</td>
              <td className={table.number}>{rate(p.received)}</td>
              <td className={table.number}>{p.p50 === null ? '–' : delay(p.p50)}</td>
              <td className={table.number}>{p.p99 === null ? '–' : delay(p.p99)}</td>
              <td className={table.number}>{p.waiting}</td>
              <td className={table.number}>{p.refused}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}
