import { Live } from './live.js';
import type { LiveOptions } from './options.js';
import { Tabs } from './tabs.js';

export interface SharedOptions extends LiveOptions {
  /** Who the user is, where the token does not say it in `sub`: tabs of one user share a connection, and never with another's. */
  user?: string;
}

/** Connects like `connect`, with one connection for all tabs of a browser profile in which the same user is signed in (on the same
 * `device`, if one is named). */
export function connectShared(options: SharedOptions): SharedLive {
  return new SharedLive(options);
}

/** A user's notifications in one of several tabs. Each tab hands each out once, has all that came since it was opened, and shows the
 * same totals; one of them is connected and acknowledges what it has handled. */
export class SharedLive extends Live {
  readonly #tabs: Tabs | undefined;

  constructor(options: SharedOptions) {
    const canShare = typeof BroadcastChannel !== 'undefined';
    let signedOut = () => undefined as unknown;
    const tabs = canShare
      ? new Tabs(
          (token) => options.user ?? subjectOf(token),
          () => signedOut(),
        )
      : undefined;
    super(options, { climb: tabs?.climb, onlySeen: !canShare });
    this.#tabs = tabs;
    signedOut = () => super.close();
  }

  /** Ends the connection here and in every tab of this user, as when the user signs out. */
  async signOut(): Promise<void> {
    await super.close();
    this.#tabs?.signOut();
  }

  /** Ends it for this tab alone: another one is connected then. */
  override async close(): Promise<void> {
    await super.close();
    this.#tabs?.end();
  }
}

/** The `sub` of a token: it is the user's own, and the service checks it. */
function subjectOf(token: string): string {
  try {
    const part = (token.split('.')[1] ?? '').replace(/-/g, '+').replace(/_/g, '/');
    return JSON.parse(new TextDecoder().decode(Uint8Array.from(atob(part), (c) => c.charCodeAt(0)))).sub ?? token;
  } catch {
    return token; // then only tabs with the very same token share
  }
}
