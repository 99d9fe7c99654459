import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import type { LiveOptions, Notification, Said } from '../src/index.js';
import { connectShared, type SharedLive } from '../src/shared.js';
import { Network } from './network.js';
import { eventually, Service } from './service.js';

// Tabs in one process: BroadcastChannel joins them, and without Web Locks they ask around.
const service = new Service();
const tabs: SharedLive[] = [];
let users = 0;

before(async () => {
  await service.start();
  await service.call('PUT', '/v1/policies', {
    policies: [
      { name: 'berths', topic: 'berth/{berth}', may: ['subscribe', 'say', 'presence'], when: { role: 'harbour-desk' } },
    ],
  });
});
after(async () => {
  for (const tab of tabs) await tab.close();
  await service.end();
});

function tab(user: string, options: Partial<LiveOptions> = {}) {
  const came: Notification[] = [];
  const reports: string[] = [];
  const live = connectShared({
    url: service.url,
    token: () => service.token(user, ['harbour-desk']),
    device: `${user}-browser`,
    retryMs: { min: 20, max: 200 },
    report: (what) => reports.push(what),
    ...options,
  });
  tabs.push(live);
  live.on('*', (notification) => void came.push(notification));
  return { live, came, reports, titles: () => came.map((n) => n.title) };
}

const isLive = (live: SharedLive) =>
  eventually(
    () => live.state.value.phase === 'live',
    () => `live, not ${JSON.stringify(live.state.value)}`,
  );
const sessions = async (user: string) =>
  ((await service.call('GET', '/v1/sessions')).sessions as { user: string }[]).filter((s) => s.user === user).length;
const handled = async (id: string) =>
  ((await service.call('GET', `/v1/notifications/${id}`)).people as { handled: number }).handled;

test('tabs share one connection: each has everything once, and the same totals', async () => {
  const user = `crew-${++users}`;
  const first = tab(user);
  await isLive(first.live);
  const second = tab(user);
  const third = tab(user);
  await Promise.all([isLive(second.live), isLive(third.live)]);
  assert.deepEqual(
    [first, second, third].map((t) => t.live.state.value.through),
    [undefined, 'another tab', 'another tab'],
  );
  assert.equal(second.live.state.value.transport, 'websocket');
  const ids: string[] = [];
  for (let i = 0; i < 20; i++) ids.push(await service.send(`user:${user}`, `${i}`));
  const all = Array.from({ length: 20 }, (_, i) => `${i}`);
  for (const t of [first, second, third]) {
    await eventually(() => t.came.length >= 20, 'all came');
    assert.deepEqual(t.titles(), all);
    assert.equal(t.live.totals.value?.unread, 20);
  }
  assert.equal(await sessions(user), 1);
  await eventually(async () => (await handled(ids.at(-1) as string)) === 1, 'they are acknowledged');
  await second.live.inbox.markRead({ all: true });
  for (const t of [first, second, third]) await eventually(() => t.live.totals.value?.unread === 0, 'read in all');
  assert.deepEqual([first.reports, second.reports, third.reports].flat(), []);
});

test('a tab that comes back with an older cursor has what lies between, though the connected one does not', async () => {
  const user = `crew-${++users}`;
  const early = tab(user);
  await isLive(early.live);
  await service.send(`user:${user}`, 'before');
  await eventually(() => early.came.length === 1, 'it came');
  await eventually(() => early.live.cursor === early.came[0]?.cursor, 'it is known');
  const cursor = early.live.cursor as string;
  await early.live.close();
  for (const title of ['one', 'two']) await service.send(`user:${user}`, title);
  const connected = tab(user, { after: 'now' });
  await isLive(connected.live);
  await service.send(`user:${user}`, 'three');
  await eventually(() => connected.came.length === 1, 'it came');
  const back = tab(user, { after: cursor });
  await isLive(back.live);
  await service.send(`user:${user}`, 'four');
  await eventually(() => back.came.length >= 4, 'all came');
  assert.deepEqual(back.titles(), ['one', 'two', 'three', 'four']);
  assert.deepEqual(connected.titles(), ['three', 'four']);
});

test('a tab that wants only what comes from now on goes on from where it is when it takes over', async () => {
  const user = `crew-${++users}`;
  const first = tab(user);
  await isLive(first.live);
  await service.send(`user:${user}`, 'before');
  await eventually(() => first.came.length === 1, 'it is here before now');
  const late = tab(user, { after: 'now' });
  await isLive(late.live);
  await service.send(`user:${user}`, 'one');
  await eventually(() => late.came.length === 1, 'it came');
  await first.live.close();
  await service.send(`user:${user}`, 'two');
  await eventually(() => late.came.length === 2, 'it came too');
  assert.deepEqual(late.titles(), ['one', 'two']);
  assert.notEqual(late.live.cursor, 'now');
});

test('when the connected tab goes, another takes over: nothing is lost, nothing comes twice', async () => {
  const user = `crew-${++users}`;
  const first = tab(user);
  await isLive(first.live);
  const second = tab(user);
  await isLive(second.live);
  const third = tab(user);
  await isLive(third.live);
  let sent = 0;
  const sending = (async () => {
    for (; sent < 150; sent++) await service.send(`user:${user}`, `${sent}`);
  })();
  await eventually(() => third.came.length > 30, 'some came');
  await first.live.close();
  await eventually(() => third.came.length > 80, 'more came');
  const next = second.live.state.value.through ? third : second;
  const last = next === second ? third : second;
  await eventually(() => next.live.state.value.through === undefined, 'one of them is connected');
  await next.live.close();
  await sending;
  const all = Array.from({ length: 150 }, (_, i) => `${i}`);
  await eventually(
    () => last.came.length >= 150,
    () => `all came, not ${last.came.length}`,
  );
  assert.deepEqual(last.titles(), all);
  await eventually(() => last.live.state.value.through === undefined, 'it is connected');
  assert.equal(last.live.totals.value?.unread, 150);
  await eventually(
    async () => (await handled(last.came.at(-1)?.id as string)) === 1,
    'the service knows that the last was handled',
  );
});

test('cuts and a crash of the service: every tab is back, with everything once', async () => {
  const user = `crew-${++users}`;
  const network = await new Network(() => service.port).listen();
  const [first, second] = [tab(user, { url: network.url }), tab(user, { url: network.url })];
  await Promise.all([isLive(first.live), isLive(second.live)]);
  let sent = 0;
  for (const happens of [() => network.cut(), () => service.crash(), () => network.cut()]) {
    await service.send(`user:${user}`, `${sent++}`);
    await happens();
    await service.send(`user:${user}`, `${sent++}`);
    for (const t of [first, second])
      await eventually(
        () => t.came.length >= sent,
        () => `all came, not ${t.titles()} ${JSON.stringify(t.live.state.value)}`,
      );
  }
  const all = Array.from({ length: sent }, (_, i) => `${i}`);
  assert.deepEqual([first.titles(), second.titles()], [all, all]);
  await Promise.all([isLive(first.live), isLive(second.live)]);
  network.close();
});

test('a topic is subscribed to as long as one tab is, and what is said is heard in each', async () => {
  const user = `crew-${++users}`;
  const [first, second] = [tab(user), tab(user)];
  await Promise.all([isLive(first.live), isLive(second.live)]);
  const heard: Said[][] = [[], []];
  for (const [i, t] of [first, second].entries()) t.live.onSaid((said) => heard[i]?.push(said));
  await first.live.subscribe('berth/3');
  await second.live.subscribe('berth/3');
  const other = tab(`crew-${++users}`);
  await isLive(other.live);
  await other.live.say('berth/3', { note: 'ramp is down' });
  await eventually(() => heard.every((h) => h.length === 1), 'both heard it');
  await first.live.unsubscribe('berth/3');
  await other.live.say('berth/3', { note: 'ramp is up' });
  await eventually(() => heard[1]?.length === 2, 'the one that still listens heard it');
  await second.live.unsubscribe('berth/3');
  assert.equal(
    ((await service.call('GET', '/v1/sessions')).sessions as { user: string; channels: string[] }[])
      .find((s) => s.user === user)
      ?.channels.includes('topic:berth/3'),
    false,
  );
});

test('each tab is shown who is there, and what one looks away from the others still see', async () => {
  const user = `crew-${++users}`;
  const [first, second] = [tab(user), tab(user)];
  await Promise.all([isLive(first.live), isLive(second.live)]);
  const here = first.live.presence('topic:berth/7');
  await eventually(() => here.value.count === 0, 'nobody is there');
  const other = tab(`crew-${++users}`);
  await isLive(other.live);
  await other.live.subscribe('berth/7');
  await eventually(() => here.value.people?.length === 1, 'one is there');
  const late = second.live.presence('topic:berth/7');
  await eventually(() => late.value.people?.length === 1, 'the other tab is shown it too');
  here.close();
  await other.live.unsubscribe('berth/7');
  await eventually(() => late.value.count === 0, 'it is told of the departure');
  await first.live.subscribe('berth/7');
  await eventually(() => late.value.people?.map((p) => p.user).join() === user, 'and of an arrival');
  late.close();
});

test('signing out ends every tab of the user, and the next account gets nothing of theirs', async () => {
  const user = `crew-${++users}`;
  const [first, second] = [tab(user), tab(user)];
  await Promise.all([isLive(first.live), isLive(second.live)]);
  await service.send(`user:${user}`, 'secret');
  await eventually(() => first.came.length === 1 && second.came.length === 1, 'both have it');
  await second.live.signOut();
  await eventually(() => first.live.state.value.phase === 'closed', 'the other ended too');
  await eventually(async () => (await sessions(user)) === 0, 'nobody is connected');
  const next = `crew-${++users}`;
  const theirs = tab(next);
  await isLive(theirs.live);
  await service.send(`user:${user}`, 'another secret');
  await service.send(`user:${next}`, 'theirs');
  await eventually(() => theirs.came.length > 0, 'theirs came');
  assert.deepEqual(theirs.titles(), ['theirs']);
  assert.equal(theirs.live.totals.value?.unread, 1);
  assert.deepEqual([first.titles(), second.titles()], [['secret'], ['secret']]);
});

test('two accounts in one browser at once keep apart', async () => {
  const names = [`crew-${++users}`, `crew-${++users}`];
  const both = names.map((name) => tab(name));
  await Promise.all(both.map((t) => isLive(t.live)));
  assert.deepEqual(
    both.map((t) => t.live.state.value.through),
    [undefined, undefined],
  );
  for (const name of names) await service.send(`user:${name}`, name);
  await eventually(() => both.every((t) => t.came.length === 1), 'each has their own');
  assert.deepEqual(
    both.map((t) => t.titles()),
    names.map((n) => [n]),
  );
});
