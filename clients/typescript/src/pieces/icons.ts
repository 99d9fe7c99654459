import { type Part, part } from './part.js';

const line = { fill: 'none', stroke: 'currentColor', 'stroke-width': 1.5, 'stroke-linejoin': 'round' };
const path = (d: string, props = {}) => part('path', '', { d, ...props });
const ring = (r: number, props = {}) => part('circle', '', { cx: 8, cy: 8, r, ...props });
const icon = (...inside: Part[]) => part('svg', 'icon', { viewBox: '0 0 16 16', 'aria-hidden': 'true' }, ...inside);

/** A ship's bell: beam, lip, and a nail as its clapper. */
export const bellIcon = icon(
  path('M5.2 .9h5.6M8 .9v2', line),
  path('M4.7 6C4.8 4 6 2.9 8 2.9S11.2 4 11.3 6c.15 2.5.7 4 3 6H1.7c2.3-2 2.85-3.5 3-6Z', line),
  path('M8 12.3 9.8 14.1 8 15.9 6.2 14.1Z', { fill: 'currentColor' }),
);
export const tickIcon = icon(path('M3.4 8.4 6.6 11.6 12.8 4.8', line));
export const crossIcon = icon(path('M4.6 4.6l6.8 6.8M11.4 4.6l-6.8 6.8', line));
/** Back to a nail: it is new again. */
export const againIcon = icon(path('M8 4 12 8 8 12 4 8Z', line));
export const takenIcon = icon(
  path('M8 1a7 7 0 1 1 0 14A7 7 0 0 1 8 1Zm0 3.6L4.6 8 8 11.4 11.4 8Z', {
    fill: 'currentColor',
    'fill-rule': 'evenodd',
  }),
);
export const lampIcon = icon(ring(4, { fill: 'currentColor' }), ring(6.6, line));
export const behindIcon = icon(
  part('circle', '', { cx: 10.6, cy: 8, r: 4.4, fill: 'currentColor' }),
  part('circle', '', { cx: 3.9, cy: 8, r: 1.7, fill: 'currentColor' }),
);
export const silentIcon = icon(ring(6.2, line), path('M5 8h6', line));
export const refusedIcon = icon(path('M5.1 1h5.8L15 5.1v5.8L10.9 15H5.1L1 10.9V5.1Z', line), path('M4.4 8h7.2', line));
