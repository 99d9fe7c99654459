import assert from 'node:assert/strict';
import { readFileSync } from 'node:fs';
import { join, resolve } from 'node:path';
import { after, before, test } from 'node:test';
import { type Change, connect, InboxList } from '../src/index.js';
import { Ground, isLive } from './ground.js';
import { CheckedWebSocket } from './schema.js';
import { eventually } from './service.js';

const ground = new Ground();
const { service, network, person } = ground;

before(() => service.start());
after(() => ground.end(14));

test('a notification comes, is handled, acknowledged and counted', async () => {
  const mara = person({ device: 'bridge-tablet', label: 'Bridge tablet', staggerMs: 20_000 });
  await isLive(mara.live);
  assert.equal(mara.live.state.value.transport, 'websocket');
  const id = await service.send(mara.to, 'Turnstone: bow thruster check due', { data: { checkId: 91 } });
  await eventually(() => mara.came.length === 1, 'it came');
  assert.deepEqual([mara.came[0]?.id, mara.came[0]?.data, mara.live.totals.value?.unread], [id, { checkId: 91 }, 1]);
  await eventually(
    async () => ((await service.call('GET', `/v1/notifications/${id}`)).people as { handled: number }).handled === 1,
    'the service knows that it was handled',
  );
  await mara.live.inbox.markRead({ all: true });
  assert.equal(mara.live.totals.value?.unread, 0);
  assert.deepEqual(mara.reports, []);
});

for (const [weather, transport] of [
  ['clear', 'websocket'],
  ['no upgrades', 'sse'],
  ['no upgrades, buffering', 'long-poll'],
  ['buffering', 'websocket'],
] as const) {
  test(`with ${weather} in between it ends on ${transport}, within three seconds, and loses nothing`, async () => {
    const between = await network(weather);
    const began = Date.now();
    const mara = person({ url: between.url });
    await service.call('PUT', `/v1/users/${mara.user}`, {});
    for (let i = 0; i < 30; i++) await service.send(mara.to, `${i}`);
    await eventually(() => mara.live.state.value.transport, 'connected');
    assert.ok(Date.now() - began < 3000 + 30 * 50, `it took ${Date.now() - began} ms`);
    assert.equal(mara.live.state.value.transport, transport);
    await isLive(mara.live);
    for (let i = 30; i < 60; i++) {
      await service.send(mara.to, `${i}`);
      if (i % 10 === 0) between.cut();
    }
    await eventually(() => mara.came.length >= 60, `all came, not ${mara.came.length}`);
    assert.deepEqual(
      mara.titles(),
      Array.from({ length: 60 }, (_, i) => `${i}`),
    );
    await eventually(() => mara.live.totals.value?.unread === 60, 'all are counted');
    const tried = mara.live.state.value.tried.find((t) => t.transport === 'websocket');
    if (transport === 'sse') assert.match(tried?.why ?? 'the first time', /upgrade|first time/);
  });
}

test('a better transport is used again once it works', async () => {
  const between = await network('no upgrades');
  const mara = person({ url: between.url, upgradeMs: 300 });
  await eventually(() => mara.live.state.value.transport === 'sse', 'the stream is used');
  between.weather = 'clear';
  await eventually(() => mara.live.state.value.transport === 'websocket', 'the WebSocket is used again');
  await service.send(mara.to, 'after the change');
  await eventually(() => mara.came.length === 1, 'it came');
});

for (const transports of [['websocket'], ['sse'], ['long-poll']] as const) {
  test(`through crashes of the service nothing is lost, doubled or out of order, by ${transports[0]}`, async () => {
    const role = `engineer-${transports[0]}`;
    const mara = person({ roles: [role], transports });
    await isLive(mara.live);
    const sent: string[] = [];
    for (let round = 0; round < 3; round++) {
      for (let i = 0; i < 20; i++) {
        const title = `${round}.${i}`;
        await service.send(i % 2 ? mara.to : `role:${role}`, title);
        sent.push(title);
      }
      await service.crash();
    }
    await eventually(
      () => mara.came.length >= sent.length,
      () => `all came, not ${mara.came.length}: ${JSON.stringify(mara.live.state.value)}`,
    );
    await isLive(mara.live);
    assert.deepEqual(mara.titles(), sent);
    await eventually(() => mara.live.totals.value?.unread === sent.length, 'all are counted');
    assert.ok(mara.live.state.value.reconnects >= 3);
  });
}

test('a handler that fails is given the notification again, and the others meanwhile', async () => {
  const mara = person();
  const order: string[] = [];
  mara.live.on('berth.changed', ({ title, attempt }) => {
    order.push(`${title} ${attempt}`);
    if (title === 'bad' && attempt === 1) throw new Error('not yet');
  });
  await isLive(mara.live);
  const bad = await service.send(mara.to, 'bad', { type: 'berth.changed' });
  await service.send(mara.to, 'good', { type: 'berth.changed' });
  await eventually(() => order.length === 3, 'it came again');
  assert.deepEqual(order, ['bad 1', 'good 1', 'bad 2']);
  await eventually(
    async () => ((await service.call('GET', `/v1/notifications/${bad}`)).people as { handled: number }).handled === 1,
    'it is handled in the end',
  );
  assert.deepEqual(mara.reports, ['a handler of berth.changed failed']);
});

test('what nothing handles is said, and goes to the one for the rest', async () => {
  const mara = person();
  const rest: string[] = [];
  await isLive(mara.live);
  await service.send(mara.to, 'one', { type: 'sailing.cancelled' });
  await eventually(() => mara.reports.length === 1, 'it is said');
  assert.match(mara.reports[0] ?? '', /nothing handles sailing.cancelled/);
  mara.live.otherwise((n) => void rest.push(n.title));
  await service.send(mara.to, 'two', { type: 'sailing.cancelled' });
  await eventually(() => rest.length === 1, 'it is handed to the rest');
});

test('a refusal is final and says why; a token that ends is replaced', async () => {
  let calls = 0;
  const liar = person({ token: () => service.token(`somebody-${++calls}`, [], 3600, 'another secret') });
  await eventually(() => liar.live.state.value.phase === 'refused', 'refused');
  assert.equal(liar.live.state.value.problem?.status, 401);
  assert.equal(calls, 2);
  let tokens = 0;
  const mara = person({ token: () => service.token('mara-short', tokens++ ? [] : [], 6) });
  mara.live.on('*', () => undefined);
  await isLive(mara.live);
  await eventually(() => tokens >= 2, 'the token was renewed', 20);
  assert.equal(mara.live.state.value.reconnects, 0);
});

test('what the token function does wrong is not a word of the service: it is asked again, and that is said', async () => {
  const answers: (() => string)[] = [
    () => {
      throw new Error('502');
    },
    () => '<!doctype html><title>Sign in</title>',
    () => '',
    () => undefined as unknown as string,
    () => service.token('mara-late', [], -60),
    () => service.token('mara-late', [], -60),
    () => service.token('mara-late', [], -60),
  ];
  const phases = new Set<string>();
  const whys: string[] = [];
  const mara = person({ token: () => (answers.shift() ?? (() => service.token('mara-late')))() });
  mara.live.state.subscribe(() => {
    phases.add(mara.live.state.value.phase);
    if (mara.live.state.value.why) whys.push(mara.live.state.value.why);
  });
  await isLive(mara.live);
  assert.ok(!phases.has('refused'), [...phases].join(' '));
  assert.deepEqual(answers, []);
  for (const why of [/no token: 502/, /none: "<!doctype html>/, /none: ""/, /none: undefined/, /expired|ended/i])
    assert.ok(
      whys.some((w) => why.test(w)),
      `${why} in ${whys.join('; ')}`,
    );
  assert.equal(mara.reports.filter((r) => r === 'the token function failed').length, 4);
});

test('whoever was refused can try again', async () => {
  let secret = 'another secret';
  const mara = person({ token: () => service.token('mara-again', [], 3600, secret) });
  await eventually(() => mara.live.state.value.phase === 'refused', 'refused');
  secret = service.secret;
  mara.live.reconnect();
  await isLive(mara.live);
  assert.equal(mara.live.state.value.problem, undefined);
});

test('a signing key that is removed ends sessions, which come back with tokens of another', async () => {
  let secret = 'a secret of its own, long enough to sign with';
  await service.call('POST', '/v1/signing-keys', { name: 'rotated', secret });
  const mara = person({ token: () => service.token('mara-rotated', [], 3600, secret) });
  await isLive(mara.live);
  secret = service.secret;
  await service.call('DELETE', '/v1/signing-keys/rotated');
  await eventually(() => mara.live.state.value.reconnects === 1, 'it came back');
  await isLive(mara.live);
});

test('what a subscription is caught up with comes once, however often that is cut short', async () => {
  await service.call('PUT', '/v1/policies', {
    policies: [{ name: 'berths', topic: 'berth/{berth}', may: ['subscribe'], when: { role: 'harbour-desk' } }],
  });
  let cuts = 0;
  /** Closes the connection three times, each time in the middle of a replay. */
  class Cutting extends CheckedWebSocket {
    caught = 0;
    constructor(url: string | URL, protocols?: string | string[]) {
      super(url, protocols);
      this.addEventListener('message', (event) => {
        const message = JSON.parse(event.data);
        if (message.kind === 'notification' && !message.cursor && ++this.caught === 10 && cuts < 3) {
          cuts++;
          this.close();
        }
      });
    }
  }
  const between = await network();
  const mara = person({ url: between.url, roles: ['harbour-desk'], transports: ['websocket'], WebSocket: Cutting });
  await isLive(mara.live);
  await mara.live.subscribe('berth/9');
  between.weather = 'no upgrades';
  between.cut();
  for (let i = 0; i < 30; i++) await service.send('topic:berth/9', `${i}`);
  between.weather = 'clear';
  await eventually(
    () => new Set(mara.titles()).size === 30 && cuts === 3,
    () => `all came: ${mara.titles().length} in ${cuts} cuts`,
  );
  await isLive(mara.live);
  await service.send(mara.to, 'last');
  await eventually(() => mara.titles().includes('last'), 'and what comes after');
  assert.deepEqual(mara.titles(), [...Array.from({ length: 30 }, (_, i) => `${i}`), 'last']);
});

test('another device reads, withdraws; the page hears of it, and its totals follow', async () => {
  const mara = person();
  const changes: Change[] = [];
  mara.live.onChange((change) => changes.push(change));
  await isLive(mara.live);
  const id = await service.send(mara.to, 'one');
  const gone = await service.send(mara.to, 'two');
  await eventually(() => mara.came.length === 2, 'both came');
  await service.call('DELETE', `/v1/notifications/${gone}`);
  const other = connect({ url: service.url, token: () => service.token(mara.user), report: () => undefined });
  ground.keep(other);
  await other.inbox.markRead({ ids: [id] });
  await eventually(() => changes.length === 2, 'both are heard of');
  assert.deepEqual(
    changes.map((c) => c.kind),
    ['withdrawn', 'read'],
  );
  await eventually(() => mara.live.totals.value?.unread === 0, 'nothing is unread');
});

test('the inbox is read page by page, and a job is taken over once', async () => {
  const [mara, teo] = [person({ roles: ['deckhand'] }), person({ roles: ['deckhand'] })];
  await isLive(mara.live);
  await isLive(teo.live);
  for (let i = 0; i < 25; i++) await service.send(mara.to, `${i}`);
  let page = await mara.live.inbox.page({ limit: 10 });
  const titles = page.items.map((i) => i.title);
  while (page.next) {
    page = await page.next();
    titles.push(...page.items.map((i) => i.title));
  }
  assert.deepEqual(
    titles,
    Array.from({ length: 25 }, (_, i) => `${24 - i}`),
  );
  const job = await service.send('role:deckhand', 'Line handlers to berth 3', { takeable: true });
  await mara.live.inbox.take(job);
  await assert.rejects(teo.live.inbox.take(job), /taken/i);
  await eventually(() => teo.live.totals.value?.unread === 0, 'it is nobody else’s any more');
});

test('what is acknowledged is not given to the next visit, what is not is', async () => {
  const mara = person({ device: 'shore-office' });
  await isLive(mara.live);
  await service.send(mara.to, 'first visit');
  await eventually(() => mara.came.length === 1, 'it came');
  await mara.live.close();
  assert.equal(mara.live.state.value.phase, 'closed');
  await service.send(mara.to, 'between the visits');
  const next: string[] = [];
  const live = connect({
    url: service.url,
    token: () => service.token(mara.user),
    device: 'shore-office',
    report: () => undefined,
  });
  ground.keep(live);
  live.on('*', (n) => void next.push(n.title));
  await isLive(live);
  assert.deepEqual(next, ['between the visits']);
});

test('the list of the inbox follows what comes, what is read, what goes', async () => {
  const mara = person();
  for (let i = 0; i < 30; i++) await service.send(`user:${mara.user}`, `${i}`);
  const list = new InboxList(mara.live, { limit: 10 });
  const titles = () => list.value.items.map((i) => i.title).join(' ');
  await eventually(() => !list.value.loading && list.value.items.length === 10, 'the first page is there');
  await isLive(mara.live); // all thirty came live too: they belong to pages that were not asked for
  assert.equal(titles(), '29 28 27 26 25 24 23 22 21 20');
  const gone = await service.send(mara.to, 'new');
  await eventually(() => titles().startsWith('new 29'), 'it is on top');
  await list.more();
  assert.equal(list.value.items.length, 21);
  await service.call('DELETE', `/v1/notifications/${gone}`);
  await eventually(() => titles().startsWith('29 28'), 'it is gone');
  const [first] = list.value.items;
  const marking = list.markRead([first?.id ?? '']);
  assert.ok(list.value.items[0]?.state.read, 'it is read at once');
  await marking;
  assert.equal(mara.live.totals.value?.unread, 29);
  const other = connect({ url: service.url, token: () => service.token(mara.user), report: () => undefined });
  ground.keep(other);
  await other.inbox.markRead({ all: true });
  await eventually(() => list.value.items.every((i) => i.state.read), 'all are read');
  await list.more();
  assert.equal(list.value.items.length, 30);
  assert.equal(list.value.hasMore, false);
  list.close();
});

test('what is marked read while the service is away is unread again', async () => {
  const between = await network();
  const mara = person({ url: between.url });
  await isLive(mara.live);
  await service.send(mara.to, 'one');
  const list = new InboxList(mara.live);
  await eventually(() => list.value.items.length === 1, 'it is there');
  between.close();
  await list.markRead([list.value.items[0]?.id ?? '']);
  assert.equal(list.value.items[0]?.state.read, null);
  assert.ok(list.value.error);
  list.close();
});

test('a notification that can not be handled for a while holds back none of the many behind it', async () => {
  const mara = person();
  const handled: string[] = [];
  let failures = 0;
  mara.live.on('berth.changed', ({ title }) => {
    if (title === 'bad' && failures++ < 2) throw new Error('not yet');
    handled.push(title);
  });
  await isLive(mara.live);
  await service.send(mara.to, 'bad', { type: 'berth.changed' });
  const last = Array.from({ length: 400 }, (_, i) => `${i}`);
  for (const title of last) await service.send(mara.to, title, { type: 'berth.changed' });
  await eventually(
    () => handled.length === 401,
    () => `all are handled, not ${handled.length}`,
    30,
  );
  assert.deepEqual(
    handled.filter((t) => t !== 'bad'),
    last,
  );
  assert.deepEqual(new Set(mara.reports), new Set(['a handler of berth.changed failed']));
});

test('what has a deadline is acknowledged at once, the rest within a second', async () => {
  const sent: { at: number; text: string }[] = [];
  class Timed extends CheckedWebSocket {
    override send(data: string): void {
      if (data.includes('"ack"')) sent.push({ at: Date.now(), text: data });
      super.send(data);
    }
  }
  const mara = person({ WebSocket: Timed });
  await isLive(mara.live);
  await service.send(mara.to, 'to read');
  await eventually(() => sent.length === 1, 'acknowledged in the end');
  const began = Date.now();
  assert.equal(mara.came[0]?.due, undefined);
  await service.send(mara.to, 'to sign', { deadlines: [{ by: 'received', within: 'PT1M' }] });
  await eventually(() => sent.length === 2, 'acknowledged');
  assert.ok(mara.came[1]?.due);
  assert.ok(sent[1] && sent[1].at - began < 900, `it took ${(sent[1]?.at ?? 0) - began} ms`);
});

test('the bell can be imported where there is no page', async () => {
  const { RovettBell } = await import('../src/elements/bell.js');
  assert.equal(typeof RovettBell, 'function');
});

test('what is built suits server rendering, React from 18 on, and pages without a bundler', () => {
  const folder = resolve(import.meta.dirname, '../..');
  assert.match(readFileSync(join(folder, 'dist/react/index.js'), 'utf8'), /^(['"])use client\1/);
  const { peerDependencies, exports } = JSON.parse(readFileSync(join(folder, 'package.json'), 'utf8'));
  assert.equal(peerDependencies.react, '>=18');
  const single = readFileSync(join(folder, exports['./rovett.js']), 'utf8');
  assert.doesNotMatch(single, /\bimport\s*[{*"'\w]/);
  assert.match(single, /rovett-bell/);
});
