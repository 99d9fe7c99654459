import styles from './Glyph.module.css';

/** What a glyph says: by its shape first, by colour as well. */
export type Sign =
  | 'live'
  | 'behind'
  | 'silent'
  | 'stored'
  | 'dispatched'
  | 'received'
  | 'handled'
  | 'read'
  | 'taken'
  | 'expired'
  | 'withdrawn'
  | 'replaced'
  | 'aside'
  | 'watch'
  | 'allowed'
  | 'denied'
  | 'unmet';

const ring = <circle cx="8" cy="8" r="5.6" fill="none" stroke="currentColor" strokeWidth="1.6" />;

/** A ring that is filled by a part of a turn, from the top. */
function Filled({ part }: { part: 0.25 | 0.5 | 0.75 }) {
  const end = { 0.25: '13.6 8', 0.5: '8 13.6', 0.75: '2.4 8' }[part];
  return (
    <>
      {ring}
      <path d={`M8 8 L8 2.4 A5.6 5.6 0 ${part > 0.5 ? 1 : 0} 1 ${end} Z`} fill="currentColor" />
    </>
  );
}

const shapes: Record<Sign, React.ReactNode> = {
  live: (
    <>
      {ring}
      <circle cx="8" cy="8" r="3" fill="currentColor" />
    </>
  ),
  behind: (
    <>
      <circle cx="11" cy="8" r="3.8" fill="currentColor" />
      <circle cx="4.8" cy="8" r="1.3" fill="currentColor" />
      <circle cx="1.5" cy="8" r="0.9" fill="currentColor" />
    </>
  ),
  silent: (
    <>
      {ring}
      <path d="M5.2 8h5.6" stroke="currentColor" strokeWidth="1.6" />
    </>
  ),
  stored: ring,
  dispatched: <Filled part={0.25} />,
  received: <Filled part={0.5} />,
  handled: <Filled part={0.75} />,
  read: <circle cx="8" cy="8" r="6.4" fill="currentColor" />,
  taken: (
    <path
      d="M8 1.6a6.4 6.4 0 1 0 0 12.8A6.4 6.4 0 0 0 8 1.6Zm0 3.6L10.8 8 8 10.8 5.2 8Z"
      fill="currentColor"
      fillRule="evenodd"
    />
  ),
  expired: (
    <circle cx="8" cy="8" r="5.6" fill="none" stroke="currentColor" strokeWidth="1.6" strokeDasharray="2.6 2.27" />
  ),
  withdrawn: (
    <>
      {ring}
      <path d="M4 12 12 4" stroke="currentColor" strokeWidth="1.6" />
    </>
  ),
  replaced: (
    <>
      <circle cx="6.4" cy="8" r="4.8" fill="none" stroke="currentColor" strokeWidth="1.6" />
      <path d="M10.6 3.9a4.8 4.8 0 0 1 0 8.2" fill="none" stroke="currentColor" strokeWidth="1.6" />
    </>
  ),
  aside: (
    <path
      d="M8 .8 15.2 8 8 15.2.8 8Zm-.8 3.4.2 4.6h1.2l.2-4.6Zm.8 5.6a.95.95 0 1 0 0 1.9.95.95 0 0 0 0-1.9Z"
      fill="currentColor"
      fillRule="evenodd"
    />
  ),
  watch: (
    <path
      d="M8 1.2 15.4 14H.6Zm-.8 4.5.2 4.2h1.2l.2-4.2Zm.8 5.1a.9.9 0 1 0 0 1.8.9.9 0 0 0 0-1.8Z"
      fill="currentColor"
      fillRule="evenodd"
    />
  ),
  allowed: (
    <path
      d="M8 1.6a6.4 6.4 0 1 0 0 12.8A6.4 6.4 0 0 0 8 1.6Zm3.4 4.6L7.2 10.8 4.6 8.2l1.1-1.1 1.5 1.5 3.1-3.4Z"
      fill="currentColor"
      fillRule="evenodd"
    />
  ),
  denied: (
    <path d="M5.1 1.2h5.8l3.9 3.9v5.8l-3.9 3.9H5.1l-3.9-3.9V5.1ZM4 7v2h8V7Z" fill="currentColor" fillRule="evenodd" />
  ),
  unmet: <path d="m4 4 8 8m0-8-8 8" stroke="currentColor" strokeWidth="1.8" />,
};

/** A sign. With a label it is read out; without, the word beside it says it. */
export function Glyph({ sign, label, size = 16 }: { sign: Sign; label?: string; size?: number }) {
  return (
    <svg
      className={`${styles.glyph} ${styles[sign]}`}
      viewBox="0 0 16 16"
      width={size}
      height={size}
      role={label ? 'img' : undefined}
      aria-label={label}
      aria-hidden={label ? undefined : true}
    >
      {shapes[sign]}
    </svg>
  );
}
