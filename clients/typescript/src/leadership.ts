/** Whether this page is the one of its browser profile that connects. */
export interface Leadership {
  /** Takes it from a page that no longer answers. */
  steal(): void;
  /** Gives it up, and stops seeking it. */
  end(): void;
}

export interface LeadershipEvents {
  won(): void;
  lost(): void;
}

/** Seeks to lead all pages that use the same name: by a lock, which the browser frees when a page dies, or, where there are none
 * (plain http), by asking around. */
export function seekLeadership(name: string, events: LeadershipEvents): Leadership {
  return globalThis.navigator?.locks ? byLock(name, events) : byClaim(name, events);
}

function byLock(name: string, events: LeadershipEvents): Leadership {
  let release: (() => void) | undefined;
  let round = new AbortController();
  const seek = (options: LockOptions) => {
    const mine = round;
    let held = false;
    navigator.locks
      .request(name, options, () => {
        if (mine !== round) return undefined;
        held = true;
        events.won();
        return new Promise<void>((r) => {
          release = r;
        });
      })
      .catch(() => {
        if (mine !== round) return;
        // Another page took it.
        release = undefined;
        if (held) events.lost();
        seek({ signal: mine.signal });
      });
  };
  seek({ signal: round.signal });
  return {
    steal() {
      round.abort();
      round = new AbortController();
      seek({ steal: true });
    },
    end() {
      round.abort();
      round = new AbortController();
      release?.();
    },
  };
}

const answerMs = 250;

/** A tab that claims it and hears of neither a leader nor an earlier claim leads. Should two lead for a moment, one gives way, and
 * what both brought is known by its id. */
function byClaim(name: string, events: LeadershipEvents): Leadership {
  const channel = new BroadcastChannel(`${name} lead`);
  (channel as { unref?: () => void }).unref?.();
  const me = crypto.getRandomValues(new Uint32Array(2)).join('-');
  let isLeading = false;
  let timer: ReturnType<typeof setTimeout> | undefined;
  const say = (kind: 'claim' | 'lead' | 'free') => channel.postMessage({ kind, me });
  const claim = () => {
    clearTimeout(timer);
    timer = setTimeout(() => {
      timer = undefined;
      isLeading = true;
      say('lead');
      events.won();
    }, answerMs);
    say('claim');
  };
  channel.onmessage = ({ data }) => {
    const givesWay = data.me < me;
    if (data.kind === 'free') return claim();
    if (isLeading) {
      if (data.kind === 'lead' && givesWay) {
        isLeading = false;
        events.lost();
      } else say('lead');
    } else if (timer && (data.kind === 'lead' || givesWay)) {
      clearTimeout(timer);
      timer = undefined;
    }
  };
  claim();
  return {
    steal: claim,
    end() {
      clearTimeout(timer);
      if (isLeading) say('free');
      channel.onmessage = null;
      channel.close();
    },
  };
}
