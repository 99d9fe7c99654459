import { length } from '../../api/times';
import { Glyph } from '../../look/Glyph';
import styles from './Lanes.module.css';
import type { Tale } from './tale';

const [width, left, right, rowHeight, top] = [580, 140, 20, 36, 26];
const ticks: [number, string][] = [
  [1, '1 ms'],
  [10, '10'],
  [100, '100 ms'],
  [1000, '1 s'],
  [10_000, '10 s'],
  [60_000, '1 min'],
  [600_000, '10 min'],
  [3_600_000, '1 h'],
  [86_400_000, '1 d'],
  [864_000_000, '10 d'],
];

/** Each device's way on a scale of time whose steps grow: milliseconds and hours in one picture. */
export function Lanes({ tale }: { tale: Tale }) {
  const ends = [
    tale.stored,
    ...tale.lanes.flatMap((l) => l.marks.map((m) => m.at)),
    ...tale.deadlines.map((d) => d.at),
  ];
  const shown = ticks.filter(([at], i) => i < 4 || at <= 4 * Math.max(...ends));
  const last = shown.at(-1)?.[0] ?? 1000;
  const x = (at: number) =>
    left + (Math.log10(Math.max(1, Math.min(at, last))) / Math.log10(last)) * (width - left - right);
  const y = (row: number) => top + row * rowHeight + rowHeight / 2;
  const rows = 1 + tale.lanes.length + tale.deadlines.length;
  const height = top + rows * rowHeight + 4;
  const says = tale.lanes
    .map(
      (l) =>
        `${l.who}, ${l.device}: ${l.marks.map((m) => `${m.sign} after ${length(m.at)}`).join(', ') || 'nothing yet'}`,
    )
    .join('; ');

  return (
    <svg
      className={styles.lanes}
      viewBox={`0 0 ${width} ${height}`}
      role="img"
      aria-label={`Time until each state. ${says}`}
    >
      {shown.map(([at, name]) => (
        <g key={at}>
          <line className={styles.grid} x1={x(at)} x2={x(at)} y1={top} y2={height} />
          <text className={styles.small} x={x(at)} y={14} textAnchor="middle">
            {name}
          </text>
        </g>
      ))}
      <Label row={y(0)} name="Stored" more={tale.byRule ? 'by a rule' : 'by its sender'} />
      <line className={styles.copper} x1={x(1)} x2={x(Math.max(1, tale.stored))} y1={y(0)} y2={y(0)} />
      <Mark at={x(tale.stored)} row={y(0)} sign="stored" />
      {tale.lanes.map((lane, i) => (
        <g key={`${lane.who} ${lane.device}`}>
          <Label row={y(i + 1)} name={lane.who} more={lane.device} />
          <Way lane={lane} from={x(tale.stored)} x={x} row={y(i + 1)} />
        </g>
      ))}
      {tale.deadlines.map((deadline, i) => {
        const row = y(1 + tale.lanes.length + i);
        return (
          <g key={deadline.text}>
            <line className={styles.deadline} x1={x(deadline.at)} x2={x(deadline.at)} y1={top} y2={row} />
            <Label row={row} name="Deadline" more={length(deadline.at)} />
            <Mark at={x(deadline.at)} row={row} sign={deadline.sign} />
            <text className={styles.small} x={x(deadline.at) - 14} y={row + 4} textAnchor="end">
              {deadline.text}
            </text>
          </g>
        );
      })}
    </svg>
  );
}

function Way({
  lane,
  from,
  x,
  row,
}: {
  lane: Tale['lanes'][number];
  from: number;
  x: (at: number) => number;
  row: number;
}) {
  const [first, last] = [lane.marks[0], lane.marks.at(-1)];
  if (!first || !last) {
    return <line className={styles.waiting} x1={from} x2={width - right} y1={row} y2={row} />;
  }
  return (
    <>
      <line className={styles.copper} x1={from} x2={x(first.at)} y1={row} y2={row} />
      <line className={styles.verdigris} x1={x(first.at)} x2={x(last.at)} y1={row} y2={row} />
      {lane.marks.map((mark) => (
        <Mark key={mark.sign} at={x(mark.at)} row={row} sign={mark.sign} />
      ))}
    </>
  );
}

function Label({ row, name, more }: { row: number; name: string; more: string }) {
  const short = (text: string) => (text.length > 20 ? `${text.slice(0, 19)}…` : text);
  return (
    <>
      <text className={styles.name} x={0} y={row - 2}>
        {short(name)}
      </text>
      <text className={styles.small} x={0} y={row + 13}>
        {short(more)}
      </text>
    </>
  );
}

function Mark({ at, row, sign }: { at: number; row: number; sign: Tale['steps'][number]['sign'] }) {
  return (
    <svg x={at - 9} y={row - 9} width={18} height={18} viewBox="0 0 18 18" aria-hidden="true">
      <circle className={styles.under} cx="9" cy="9" r="9" />
      <g transform="translate(1 1)">
        <Glyph sign={sign} />
      </g>
    </svg>
  );
}
