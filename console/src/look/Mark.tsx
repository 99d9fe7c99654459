/** The mark: two lapped halves of a rove, the event and the person, held by one nail. */
export function Mark({ size }: { size: number }) {
  return (
    <svg viewBox="0 0 32 32" width={size} height={size} aria-hidden="true">
      <g transform="rotate(-45 16 16)">
        <path d="M3.3 15a11.25 11.25 0 0 1 22.4 0" fill="none" stroke="#db7328" strokeWidth="6.3" />
        <path d="M28.7 17a11.25 11.25 0 0 1-22.4 0" fill="none" stroke="#1c9589" strokeWidth="6.3" />
        <rect x="12.5" y="12.5" width="7" height="7" rx="0.9" fill="#1c9589" />
      </g>
    </svg>
  );
}
