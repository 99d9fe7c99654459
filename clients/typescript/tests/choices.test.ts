import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { Choices, type QuietHours } from '../src/choices.js';
import { connect, type Live, type Notification, RovettError } from '../src/index.js';
import { canSave } from '../src/pieces/choices-texts.js';
import { eventually, Service } from './service.js';

const service = new Service();
const open: Live[] = [];
let users = 0;

before(async () => {
  await service.start();
  await service.call('PUT', '/v1/types', {
    types: { 'engine.alarm': { name: 'Alarms', always: true }, 'weather.warning': { name: 'Weather warnings' } },
  });
});
after(async () => {
  for (const live of open) await live.close();
  await service.end();
});

function device(user: string) {
  const came: Notification[] = [];
  const live = connect({ url: service.url, token: () => service.token(user, []), report: () => undefined });
  open.push(live);
  live.on('*', (notification) => void came.push(notification));
  return { live, came, choices: new Choices(live) };
}

const isLive = (live: Live) => eventually(() => live.state.value.phase === 'live', 'live');
const night = { timeZone: 'UTC', hours: [{ from: '00:00', to: '24:00' }] };

test('choices are the same on every device, whichever changes them', async () => {
  const user = `crew-${++users}`;
  const [desk, phone] = [device(user), device(user)];
  await Promise.all([isLive(desk.live), isLive(phone.live)]);
  await eventually(() => desk.choices.value && phone.choices.value, 'both know them');
  assert.deepEqual(
    desk.choices.value?.types.map((t) => [t.name, !!t.always]),
    [
      ['Alarms', true],
      ['Weather warnings', false],
    ],
  );
  await desk.choices.put({ mutes: [{ type: 'weather.warning' }], quiet: night });
  await eventually(() => phone.choices.value?.quiet, 'the phone heard');
  assert.deepEqual(
    phone.choices.value?.mutes.map((m) => m.type),
    ['weather.warning'],
  );
  assert.equal(phone.choices.value?.types.length, 2);
  await phone.choices.mute({ type: 'weather.warning' }, false);
  await eventually(() => desk.choices.value?.mutes.length === 0, 'the desk heard');
  assert.deepEqual(desk.choices.value?.quiet, night);
});

test('a device rings within quiet hours only for what is urgent or always told', async () => {
  const { live, choices } = device(`crew-${++users}`);
  await isLive(live);
  await eventually(() => choices.value, 'known');
  assert.equal(choices.rings({ urgency: 'normal' }), true);
  await choices.put({ mutes: [], quiet: night });
  assert.equal(choices.rings({ urgency: 'normal' }), false);
  assert.equal(choices.rings({ urgency: 'high' }), true);
  assert.equal(choices.rings({ urgency: 'low', always: true }), true);
  const end = Date.parse(choices.value?.quietSpans.at(-1)?.to as string);
  assert.equal(choices.rings({ urgency: 'normal' }, end), true);
});

test('of two changes at once the later one is refused, and what holds is read anew', async () => {
  const user = `crew-${++users}`;
  const [desk, phone] = [device(user), device(user)];
  await Promise.all([isLive(desk.live), isLive(phone.live)]);
  await eventually(() => desk.choices.value && phone.choices.value, 'both know them');
  phone.choices.close();
  await desk.choices.mute({ subject: 'vessel/kittiwake' });
  await assert.rejects(
    phone.choices.mute({ type: 'weather.warning' }),
    (error) => error instanceof RovettError && error.status === 412,
  );
  assert.deepEqual(
    phone.choices.value?.mutes.map((m) => m.subject),
    ['vessel/kittiwake'],
  );
});

test('choices that could not be read at first are read with the next change, with the types', async () => {
  const user = `crew-${++users}`;
  const desk = device(user);
  let isCut = true;
  const fetching: typeof fetch = (input, init) =>
    isCut && String(input).endsWith('/v1/choices') ? Promise.reject(new TypeError('cut')) : fetch(input, init);
  const report = () => undefined;
  const live = connect({ url: service.url, token: () => service.token(user, []), fetch: fetching, report });
  open.push(live);
  const choices = new Choices(live);
  const counts = () => choices.value && [choices.value.mutes.length, choices.value.types.length];
  await assert.rejects(choices.load());
  await Promise.all([isLive(live), isLive(desk.live)]);
  isCut = false;
  assert.equal(counts(), null);
  await desk.choices.mute({ type: 'weather.warning' });
  await eventually(counts, 'heard');
  assert.deepEqual(counts(), [1, 2]);
});

test('quiet hours can be saved when they are whole and new', () => {
  const of = (...hours: QuietHours['hours']): QuietHours => ({ timeZone: 'UTC', hours });
  const saved = of({ from: '22:00', to: '06:30' });
  const drafts: [QuietHours, boolean][] = [
    [of(), true],
    [of({ from: '22:00', to: '06:30' }), false],
    [of({ from: '22:00', to: '06:00' }), true],
    [of({ from: '', to: '06:30' }), false],
    [of({ from: '22:00', to: '' }), false],
    [of({ from: '22:00', to: '22:00' }), false],
    [of({ days: [], from: '22:00', to: '06:30' }), false],
    [of({ days: ['mon'], from: '22:00', to: '06:30' }), true],
  ];
  for (const [draft, can] of drafts) assert.equal(canSave(draft, saved), can, JSON.stringify(draft));
});

test('a notification sent in part is fetched before its handlers run, in order', async () => {
  const user = `crew-${++users}`;
  const { live, came } = device(user);
  await isLive(live);
  const send = (title: string, carry?: string) =>
    service.call('POST', '/v1/notifications', {
      to: [`user:${user}`],
      type: 'engine.check.due',
      title,
      body: 'more',
      data: { title },
      ...(carry ? { carry } : {}),
    }) as Promise<{ id: string }>;
  for (let i = 0; i < 130; i++) await send(`t${i}`, i % 3 === 0 ? undefined : i % 3 === 1 ? 'summary' : 'reference');
  await eventually(
    () => came.length === 130,
    () => `130, not ${came.length}`,
  );
  assert.deepEqual(
    came.map((n) => [n.title, n.body, (n.data as { title: string }).title, n.carry]),
    Array.from({ length: 130 }, (_, i) => [`t${i}`, 'more', `t${i}`, undefined]),
  );
  const id = came[129]?.id as string;
  await eventually(
    async () => ((await service.call('GET', `/v1/notifications/${id}`)).people as { handled: number }).handled === 1,
    'handled',
  );
});

test('a notification sent in part that is gone when it is fetched is dropped', async () => {
  const user = `crew-${++users}`;
  const send = (title: string, carry: string) =>
    service.call('POST', '/v1/notifications', { to: [`user:${user}`], type: 't', title, carry });
  const fetching: typeof fetch = async (input, init) => {
    const wanted = new URL(String(input)).searchParams.get('ids');
    if (wanted) await service.call('DELETE', `/v1/notifications/${wanted}`);
    return fetch(input, init);
  };
  const report = () => undefined;
  const live = connect({ url: service.url, token: () => service.token(user, []), fetch: fetching, report });
  open.push(live);
  const came: Notification[] = [];
  live.on('*', (notification) => void came.push(notification));
  await isLive(live);
  await send('gone', 'reference');
  await send('stays', 'full');
  await eventually(() => came.length > 0, 'the other one came');
  assert.deepEqual(
    came.map((n) => n.title),
    ['stays'],
  );
});

test('what cannot be fetched now comes again', async () => {
  const user = `crew-${++users}`;
  let isCut = true;
  let cuts = 0;
  const fetching: typeof fetch = (input, init) => {
    if (!isCut || !String(input).includes('/v1/inbox?ids=')) return fetch(input, init);
    cuts++;
    return Promise.reject(new TypeError('cut'));
  };
  const live = connect({
    url: service.url,
    token: () => service.token(user, []),
    fetch: fetching,
    report: () => undefined,
  });
  open.push(live);
  const came: Notification[] = [];
  live.on('*', (notification) => void came.push(notification));
  await isLive(live);
  await service.call('POST', '/v1/notifications', {
    to: [`user:${user}`],
    type: 't',
    title: 'whole',
    carry: 'reference',
  });
  await eventually(() => cuts > 0, 'it came');
  isCut = false;
  await eventually(() => came.length === 1, 'it came again');
  assert.deepEqual([came[0]?.title, (came[0]?.attempt ?? 0) > 1], ['whole', true]);
});
