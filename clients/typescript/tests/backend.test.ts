import assert from 'node:assert/strict';
import { createServer } from 'node:http';
import type { AddressInfo } from 'node:net';
import { after, before, test } from 'node:test';
import { SignJWT } from 'jose';
import { Backend, RovettError } from '../src/backend.js';
import { Service } from './service.js';

const rules = {
  rules: [{ name: 'r', event: 'engine.check.due', to: ['role:engineer'], notification: { title: '{{ data.check }}' } }],
};
let service: Service;
let backend: Backend;

before(async () => {
  service = await new Service().start();
  backend = new Backend({ url: `${service.url}/`, key: service.key });
  const headers = { Authorization: `Bearer ${service.key}`, 'Content-Type': 'application/json' };
  const loaded = await fetch(`${service.url}/v1/rules`, { method: 'PUT', headers, body: JSON.stringify(rules) });
  assert.equal(loaded.status, 200);
});
after(() => service.end());

test('a notification is sent once, however often it is repeated', async () => {
  const notification = { to: ['role:engineer'], type: 't', title: 'Check due', takeable: '30m', ttl: '2h' };
  const first = await backend.send(notification, { idempotencyKey: 'a' });
  const again = await backend.send(notification, { idempotencyKey: 'a' });
  assert.deepEqual([again.id, again.repeated, first.repeated], [first.id, true, false]);
  assert.notEqual((await backend.send(notification)).id, first.id);
  await backend.withdraw(first.id);
});

test('a refusal names the field', async () => {
  await assert.rejects(backend.send({ to: [], type: 't', title: '' }), (error: RovettError) => {
    assert.ok(error instanceof RovettError);
    assert.deepEqual(
      (error.problem.errors as { field: string }[]).map((e) => e.field),
      ['to', 'title'],
    );
    return error.status === 422;
  });
});

test('events are published, one or many, and repeats are recognised', async () => {
  const event = {
    source: '/planning/1',
    type: 'engine.check.due',
    id: '1',
    actor: 'mara',
    data: { check: 'thruster' },
  };
  const first = await backend.publish(event);
  assert.deepEqual([first.matched, first.repeated], [['r'], false]);
  assert.deepEqual((await backend.publish(event)).notifications, first.notifications);

  const many = [
    event,
    { source: 'not a uri', type: 't' },
    { source: '/x', type: 'engine.check.due', data: { check: 'x' } },
  ];
  const outcomes = await backend.publishMany(many);
  assert.deepEqual(
    outcomes.map((o) => o.error?.status ?? o.value?.repeated),
    [true, 422, false],
  );
});

test('a ticket is made from the token of a user, and opens one connection', async () => {
  const secret = new TextEncoder().encode(service.secret);
  const token = await new SignJWT({ roles: ['engineer'] })
    .setProtectedHeader({ alg: 'HS256' })
    .setSubject('mara')
    .setIssuedAt()
    .setExpirationTime('15m')
    .sign(secret);
  const { ticket, opensWithinSeconds, expires } = await backend.ticket(token);
  assert.deepEqual([opensWithinSeconds, Date.parse(expires) > Date.now() + 800_000], [60, true]);
  const live = await fetch(`${service.url}/v1/live?ticket=${ticket}`, { headers: { Accept: 'text/event-stream' } });
  let text = '';
  for await (const part of live.body?.pipeThrough(new TextDecoderStream()) ?? []) {
    text += part;
    if (text.includes('"kind":"opened"')) break;
  }
  assert.match(text, /"user":"mara"/);
  await assert.rejects(backend.ticket('a.b.c'), (error: RovettError) => error.status === 401);
});

test('a call is tried again until the service takes it', async () => {
  let calls = 0;
  const busy = createServer((_, answer) => {
    calls++;
    const body =
      calls < 3 ? { type: 'urn:x', title: 'Overloaded', status: 503 } : { id: 'i', position: 1, repeated: false };
    answer.writeHead(calls < 3 ? 503 : 201, { 'Content-Type': 'application/json' }).end(JSON.stringify(body));
  }).listen(0, '127.0.0.1');
  await new Promise((r) => busy.once('listening', r));
  const url = `http://127.0.0.1:${(busy.address() as AddressInfo).port}`;
  assert.equal((await new Backend({ url, key: 'k' }).send({ to: ['everyone'], type: 't', title: 't' })).id, 'i');
  assert.equal(calls, 3);
  calls = 0;
  await assert.rejects(new Backend({ url, key: 'k', retries: 1 }).send({ to: ['everyone'], type: 't', title: 't' }));
  assert.equal(calls, 2);
  busy.close();
});

test('an address or key that is missing is told at once', () => {
  assert.throws(() => new Backend({ url: '', key: 'k' }), /url is missing/);
  assert.throws(() => new Backend({ url: 'http://x', key: '' }), /key is missing/);
});
