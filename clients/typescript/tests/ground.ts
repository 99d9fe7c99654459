import assert from 'node:assert/strict';
import { connect, type Live, type LiveOptions, type Notification } from '../src/index.js';
import { Network, type Weather } from './network.js';
import { CheckedWebSocket, seen, wrong } from './schema.js';
import { eventually, Service } from './service.js';

/** A service, the people connected to it, and the networks between. */
export class Ground {
  readonly service = new Service();
  readonly #lives: Live[] = [];
  readonly #networks: Network[] = [];
  #users = 0;

  /** Ends all of it. What went over WebSockets must be as docs/messages.schema.json says, and of so many kinds. */
  async end(kinds: number): Promise<void> {
    for (const live of this.#lives) await live.close();
    for (const network of this.#networks) network.close();
    await this.service.end();
    assert.deepEqual(wrong.slice(0, 3), []);
    assert.ok(seen.size >= kinds, `${seen.size}: ${[...seen].join(' ')}`);
  }

  network = async (weather: Weather = 'clear'): Promise<Network> => {
    const made = await new Network(() => this.service.port).listen();
    made.weather = weather;
    this.#networks.push(made);
    return made;
  };

  /** A person nobody else in these tests is, with what came, in order. */
  person = (options: Partial<LiveOptions> & { roles?: string[] } = {}) => {
    const user = `crew-${++this.#users}`;
    const came: Notification[] = [];
    const reports: string[] = [];
    const live = connect({
      url: this.service.url,
      token: () => this.service.token(user, options.roles),
      retryMs: { min: 20, max: 200 },
      WebSocket: CheckedWebSocket,
      report: (what) => reports.push(what),
      ...options,
    });
    this.keep(live);
    live.on('engine.*', (notification) => void came.push(notification));
    return { user, came, live, reports, titles: () => came.map((n) => n.title), to: `user:${user}` };
  };

  /** A connection that is closed in the end. */
  keep(live: Live): void {
    this.#lives.push(live);
  }
}

export const isLive = (live: Live) =>
  eventually(
    () => live.state.value.phase === 'live',
    () => `live, not ${JSON.stringify(live.state.value)}`,
  );
