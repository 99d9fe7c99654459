import assert from 'node:assert/strict';
import { after, test } from 'node:test';
import { connect } from '../src/index.js';
import { connectShared } from '../src/shared.js';
import { eventually } from './service.js';

type Message = Record<string, unknown>;

/** A service at the other end of a WebSocket, which answers what it is asked. */
function answering() {
  const sockets: Answering[] = [];
  class Answering {
    readyState = 1;
    readonly sent: Message[] = [];
    onopen?: () => void;
    onmessage?: (event: { data: string }) => void;
    onclose?: (event: { code: number }) => void;

    constructor(readonly url: string) {
      sockets.push(this);
      queueMicrotask(() => this.onopen?.());
    }

    send(text: string): void {
      const message: Message = JSON.parse(text);
      this.sent.push(message);
      if (message.kind === 'renew') this.opens('c1', 1, ['user:mara']);
      else if (message.requestId) this.says({ kind: 'done', requestId: message.requestId });
    }

    says(message: Message): void {
      queueMicrotask(() => this.onmessage?.({ data: JSON.stringify(message) }));
    }

    opens(cursor: string, unread: number, channels: string[]): void {
      const totals = { unread, asOf: `2026-11-01T00:00:0${unread}Z`, rev: 0 };
      this.says({ kind: 'opened', session: 's', user: 'mara', channels, totals, cursor, heartbeatSeconds: 20 });
      this.says({ kind: 'current', cursor });
    }

    close(): void {
      this.readyState = 3;
    }

    asked(kind: string): Message[] {
      return this.sent.filter((m) => m.kind === kind);
    }
  }
  return { sockets, WebSocket: Answering as unknown as typeof globalThis.WebSocket };
}

// What tabs say to each other keeps no process alive.
const alive = setInterval(() => undefined, 1000);
after(() => clearInterval(alive));

const options = { url: 'http://127.0.0.1:1', token: () => 'a.b.c', transports: ['websocket'] as const };

test('opened again on the same connection, it asks again for what only the session knew, and goes on', async () => {
  const { sockets, WebSocket } = answering();
  const live = connect({ ...options, WebSocket });
  const titles: string[] = [];
  live.on('*', (notification) => void titles.push(notification.title ?? ''));
  await eventually(() => live.state.value.phase === 'live', 'live');
  const it = sockets[0];
  assert.ok(it);
  assert.match(it.url, /[?&]reopens=true/);
  await live.subscribe('berth/3');
  await live.attend('vessel/turnstone');
  live.presence('role:engineer');
  it.says({ kind: 'notification', id: 'n1', cursor: 'c2', type: 't', title: 'one', time: '2026-11-01T00:00:02Z' });
  it.opens('c3', 5, ['user:mara', 'role:engineer']);
  it.says({ kind: 'notification', id: 'n2', cursor: 'c4', type: 't', title: 'two', time: '2026-11-01T00:00:06Z' });
  await eventually(() => titles.length === 2, 'both came');
  assert.deepEqual(titles, ['one', 'two']);
  const last = <T>(all: T[]) => all.at(-1);
  await eventually(() => it.asked('subscribe').length === 2, 'subscribed to again');
  assert.deepEqual(
    [last(it.asked('subscribe'))?.topic, last(it.asked('subscribe'))?.after],
    ['berth/3', 'c3'],
    'and caught up with from where it stands',
  );
  assert.equal(last(it.asked('attend'))?.subject, 'vessel/turnstone');
  assert.equal(it.asked('attend').length, 2);
  assert.equal(it.asked('watch').length, 2);
  assert.equal(live.totals.value?.unread, 5);
  assert.deepEqual(live.channels.value, ['user:mara', 'role:engineer']);
  assert.deepEqual([live.state.value.phase, live.state.value.reconnects, sockets.length], ['live', 0, 1]);
  await live.close();
});

test('in tabs that share a connection each goes on, and what any of them asked for is asked for again once', async () => {
  const { sockets, WebSocket } = answering();
  const first = connectShared({ ...options, device: 'reopened', WebSocket });
  await eventually(() => first.state.value.phase === 'live', 'live');
  const second = connectShared({ ...options, device: 'reopened', WebSocket });
  await eventually(() => second.state.value.phase === 'live', 'live by the other tab');
  const it = sockets[0];
  assert.ok(it);
  await first.subscribe('berth/3');
  await second.subscribe('berth/3');
  await second.subscribe('berth/4');
  await second.attend('vessel/heron');
  second.presence('role:engineer');
  await eventually(() => it.asked('watch').length === 1, 'all is asked for');
  const before = it.sent.length;
  it.opens('c3', 7, ['user:mara', 'role:engineer']);
  await eventually(() => second.totals.value?.unread === 7 && first.totals.value?.unread === 7, 'both have the totals');
  await eventually(() => it.sent.length >= before + 4, 'all is asked for again');
  const again = it.sent
    .slice(before)
    .map((m) => `${m.kind} ${m.topic ?? m.address ?? m.subject} ${m.after ?? ''}`.trim());
  assert.deepEqual(again.sort(), [
    'attend vessel/heron',
    'subscribe berth/3 c1',
    'subscribe berth/4 c1',
    'watch role:engineer',
  ]);
  assert.deepEqual(second.channels.value, ['user:mara', 'role:engineer']);
  assert.equal(sockets.length, 1);
  await second.close();
  await first.close();
});
