import { type Link, type LinkEvents, open, type Place, type Trouble } from './links.js';
import type { Message, Transport } from './messages.js';

/** How one transport went. */
export interface Tried {
  transport: Transport;
  outcome: 'waiting' | 'opened' | 'failed' | 'slower';
  /** Why it failed. */
  why?: string;
}

/** What comes out of trying: one `opened`, or one `failed`. */
export interface LadderEvents {
  tried(list: readonly Tried[]): void;
  /** The first that was answered by `opened`; from now on its messages come here. */
  opened(link: Link, opened: Message): void;
  message(message: Message): void;
  alive(): void;
  /** The link that had opened ended, or none opened at all. */
  closed(trouble: Trouble): void;
}

/** Tries transports, best first: the next one is started when the one before failed, or has not opened in time. The
 * first to open wins, so that an upgrade that is swallowed or a stream that is held back costs a moment and no more. */
export function climb(
  rungs: readonly Transport[],
  place: Place,
  staggerMs: number,
  events: LadderEvents,
): { close(): void } {
  const links: Link[] = [];
  place.query.delete('tried'); // of an attempt before
  const tried: Tried[] = [];
  let winner: Link | undefined;
  let isOver = false;
  let timer: ReturnType<typeof setTimeout> | undefined;

  const close = (except?: Link) => {
    clearTimeout(timer);
    for (const link of links) if (link !== except) link.close();
  };
  const end = (trouble: Trouble) => {
    if (isOver) return;
    isOver = true;
    close();
    events.closed(trouble);
  };
  const start = () => {
    clearTimeout(timer);
    const transport = rungs[links.length];
    if (!transport || winner || isOver) return;
    const before = tried.at(-1);
    if (before) place.query.append('tried', `${before.transport}: ${before.why ?? 'no answer'}`);
    const entry: Tried = { transport, outcome: 'waiting' };
    tried.push(entry);
    const its: LinkEvents = {
      message: (message) => {
        if (!winner && message.kind === 'opened') {
          winner = link;
          close(link);
          for (const other of tried)
            if (other.outcome === 'waiting') other.outcome = other === entry ? 'opened' : 'slower';
          events.tried([...tried]);
          events.opened(link, message);
        } else if (winner === link) events.message(message);
      },
      alive: () => winner === link && events.alive(),
      closed: (trouble) => {
        if (winner === link || trouble.problem) return end(trouble);
        if (winner) return;
        entry.outcome = 'failed';
        entry.why = trouble.why;
        events.tried([...tried]);
        if (tried.length < rungs.length) start();
        else if (tried.every((t) => t.outcome === 'failed')) end(trouble);
      },
    };
    const link = open(transport, place, its);
    links.push(link);
    events.tried([...tried]);
    timer = setTimeout(start, staggerMs);
  };
  start();
  return {
    close: () => {
      isOver = true;
      close();
    },
  };
}
