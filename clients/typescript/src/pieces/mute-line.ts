import type { Mute } from '../choices.js';
import { button, type Part, part } from './part.js';

/** A mute with a button that ends it. */
export function muteLine(mute: Mute, unmute: string, press: () => unknown): Part {
  const name = mute.type ?? mute.subject ?? '';
  return part(
    'li',
    'mute',
    { key: `${mute.type === undefined ? 'subject' : 'type'} ${name}` },
    part('span', 'words', {}, name),
    ' ',
    button('unmute', unmute, press, { 'aria-label': `${unmute}: ${name}` }),
  );
}
