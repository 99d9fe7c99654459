import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { CloudEvent, HTTP, type Message } from 'cloudevents';
import { Service } from './service.js';

const rules = {
  rules: [
    {
      name: 'r',
      event: 'engine.check.due',
      to: ['role:engineer'],
      notification: {
        title: "{{ data.check | default: '-' }} {{ subject | default: '-' }} {{ actor | default: '-' }}",
      },
    },
  ],
};
let service: Service;
let ids = 0;

before(async () => {
  service = await new Service().start();
  assert.equal(
    (await call('PUT', '/v1/rules', { 'Content-Type': 'application/json' }, JSON.stringify(rules))).status,
    200,
  );
});
after(() => service.end());

async function call(method: string, path: string, headers: Record<string, string>, body?: string | Uint8Array) {
  const answer = await fetch(service.url + path, {
    method,
    headers: { ...headers, Authorization: `Bearer ${service.key}` },
    body: body as BodyInit,
  });
  // biome-ignore lint/suspicious/noExplicitAny: answers of every shape are looked into here.
  return { status: answer.status, json: (await answer.json()) as any };
}

const event = (more: object = {}) =>
  new CloudEvent({
    id: String(++ids),
    source: '/planning/1',
    type: 'engine.check.due',
    subject: 'vessel/turnstone',
    actor: 'Åsa "x" 100%',
    data: { check: 'thruster' },
    ...more,
  });

/** Sends what the SDK made. */
const send = (message: Message) =>
  call(
    'POST',
    '/v1/events',
    message.headers as Record<string, string>,
    message.body as string | Uint8Array | undefined,
  );

async function title(message: Message): Promise<string> {
  const { status, json } = await send(message);
  assert.equal(status, 200, JSON.stringify(json));
  return (await call('GET', `/v1/notifications/${json.notifications[0].id}`, {})).json.title;
}

test('binary and structured events of the SDK arrive with their attributes and data', async () => {
  const plain = (more: object = {}) => event({ actor: 'mara', ...more });
  assert.equal(await title(HTTP.binary(plain())), 'thruster vessel/turnstone mara');
  assert.equal(await title(HTTP.structured(plain())), 'thruster vessel/turnstone mara');
  assert.equal(await title(HTTP.structured(event())), 'thruster vessel/turnstone Åsa "x" 100%');
  assert.equal(await title(HTTP.binary(plain({ data: undefined }))), '- vessel/turnstone mara');
  assert.equal(await title(HTTP.structured(plain({ data: undefined }))), '- vessel/turnstone mara');
  const text = { data: 'no json', datacontenttype: 'text/plain' };
  assert.equal(await title(HTTP.binary(plain(text))), '- vessel/turnstone mara');
  assert.equal(await title(HTTP.structured(plain(text))), '- vessel/turnstone mara');
});

test('the mode does not make another event of it', async () => {
  const once = event({ actor: 'mara', datacontenttype: 'application/json' });
  const first = await send(HTTP.binary(once));
  const again = await send(HTTP.structured(once));
  assert.deepEqual([first.json.repeated, again.json.repeated], [false, true], JSON.stringify(again.json));
  assert.deepEqual(again.json.notifications, first.json.notifications);
});

test('bytes of the SDK are taken as base64', async () => {
  const data = new TextEncoder().encode('{"check":"pump"}');
  const bytes = event({ actor: 'mara', datacontenttype: 'application/json', data: Uint32Array.from(data) });
  assert.equal((await send(HTTP.structured(bytes))).status, 200);
});

test('several events of the SDK are taken as a batch', async () => {
  const batch = `[${[event(), event({ type: 'other' })].map((e) => HTTP.structured(e).body).join(',')}]`;
  const { json } = await call('POST', '/v1/events', { 'Content-Type': 'application/cloudevents-batch+json' }, batch);
  assert.deepEqual(
    [json.taken, json.refused, json.results[0].outcome.matched, json.results[1].outcome.matched],
    [2, 0, ['r'], []],
  );
});
