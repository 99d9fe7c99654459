import assert from 'node:assert/strict';
import { writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { after, before, test } from 'node:test';
import { Validator } from '@seriousme/openapi-schema-validator';
import { type Json, Reference } from './reference.js';
import { Service } from './service.js';

let service: Service;
let reference: Reference;

before(async () => {
  service = new Service();
  const morning = '{ cron: "0 6 * * *", event: { type: day.begins, source: /clock } }';
  writeFileSync(join(service.folder, 'intakes.yaml'), `intakes: [{ name: morning, schedule: ${morning} }]`);
  await service.start();
  reference = await Reference.read(service);
});
after(() => service.end());

test('the document is valid OpenAPI 3.1', async () => {
  const { valid, errors } = await new Validator().validate(structuredClone(reference.document));
  assert.ok(valid, JSON.stringify(errors));
  assert.match(reference.document.openapi, /^3\.1\./);
});

test('every operation says what it does, by which credential, and what can go wrong', () => {
  for (const [id, { says, path }] of reference.operations) {
    assert.ok(says.summary?.endsWith('.'), `${id}: summary`);
    assert.ok(says.tags?.length === 1, `${id}: tag`);
    assert.ok(Array.isArray(says.security), `${id}: security`);
    for (const name of path.matchAll(/\{(\w+)\}/g)) {
      assert.ok(
        says.parameters.some((p: Json) => p.name === name[1] && p.description && p.example !== undefined),
        `${id}: ${name}`,
      );
    }
    for (const [status, response] of Object.entries(says.responses as object)) {
      assert.ok((response as Json).description, `${id}: ${status}`);
      if (status >= '400' && status !== '422')
        assert.ok((response as Json).content['application/problem+json'].example, `${id}: ${status}`);
    }
    const scope = says.security[0]?.apiKey?.[0];
    if (scope) assert.ok(says.description.includes(`Scope: \`${scope}\``), `${id}: scope`);
  }
  const { responses } = reference.says('sendNotification');
  assert.ok(responses['201'].headers.RateLimit.example && responses['429'].headers['Retry-After'].example);
});

test('every example is as its schema says', () => {
  let examples = 0;
  for (const [id, { says }] of reference.operations) {
    const bodies = [says.requestBody, ...Object.values((says.responses ?? {}) as object)] as Json[];
    for (const [i, body] of bodies.entries()) {
      for (const [media, content] of Object.entries((body?.content ?? {}) as object) as [string, Json][]) {
        if (content.example === undefined || !media.includes('json')) continue;
        reference.check(`${id} example ${i} ${media}`, content.schema, content.example);
        examples++;
      }
    }
  }
  assert.ok(examples > 150, `${examples} examples`);
});

test('the schema of rules takes what the service takes, and refuses what it refuses', async () => {
  const schema = (await reference.call('showRuleSchema')).json as object;
  const rule = { name: 'r', event: 'e', to: ['role:engineer'], notification: { title: 't' } };
  const more: [object, boolean][] = [
    [{}, true],
    [{ event: ['e', 'x.*'] }, true],
    [{ event: 'x*y' }, false],
    [{ when: { source: '/x/*', 'data:/a': [1, 'b', true], 'data:/n': { atLeast: 1, below: 2.5, not: [2] } } }, true],
    [{ when: { 'data:/n': { atleast: 1 } } }, false],
    [{ when: { 'data.n': 1 } }, false],
    [{ to: { each: 'data:/crew', address: 'user:{{ item.id }}' }, except: ['user:{{ actor }}'] }, true],
    [{ to: { each: 'data:/crew' } }, false],
    [{ to: ['nobody'] }, false],
    [{ gather: { within: '10m', title: '{{ count }}', first: 'now' } }, true],
    [{ gather: { within: '10' } }, false],
    [
      {
        notification: { title: 't', link: { from: 'data:/u', hosts: ['ferries.example'] }, ttl: '2h', takeable: '30m' },
      },
      true,
    ],
    [
      {
        notification: {
          title: 't',
          deadlines: [{ by: 'read', within: '1m', otherwise: { to: ['everyone'], type: 'x', title: 'x' } }],
        },
      },
      true,
    ],
    [
      {
        notification: {
          title: 't',
          always: true,
          carry: 'summary',
          deadlines: [
            {
              within: '1m',
              otherwise: [
                { to: ['everyone'], title: 'x' },
                { email: 'a@b.example', title: 'x' },
              ],
            },
          ],
        },
      },
      true,
    ],
    [{ notification: { title: 't', carry: 'none' } }, false],
    [{ notification: { title: 't', deadlines: [{ within: '1m', otherwise: [] }] } }, false],
    [{ notification: { titel: 't' } }, false],
  ];
  const types: [object, boolean][] = [
    [
      {
        types: {
          a: { name: { en: 'A' }, always: true, receipts: 'full', carry: 'reference', data: { type: 'object' } },
        },
      },
      true,
    ],
    [{ types: { a: { nome: 'x' } } }, false],
    [{ events: { a: { data: { type: 'string' } } } }, true],
    [{ events: { a: { name: 'A' } } }, false],
  ];
  for (const [catalogue, valid] of types) {
    const document = { ...catalogue, rules: [rule] };
    assert.equal(Reference.fits(schema, document), valid, `schema: ${JSON.stringify(catalogue)}`);
    const { status } = await reference.call('putRules', { text: JSON.stringify(document), query: { dryRun: 'true' } });
    assert.equal(status, valid ? 200 : 422, `service: ${JSON.stringify(catalogue)}`);
  }
  for (const [changed, valid] of more) {
    const document = { rules: [{ ...rule, ...changed }] };
    assert.equal(Reference.fits(schema, document), valid, `schema: ${JSON.stringify(changed)}`);
    const { status } = await reference.call('putRules', { text: JSON.stringify(document), query: { dryRun: 'true' } });
    assert.equal(status, valid ? 200 : 422, `service: ${JSON.stringify(changed)}`);
  }
});

test('every operation answers as the document says, right and wrong', async () => {
  const call = reference.call.bind(reference);
  const mara = service.token('mara', ['engineer']);
  const example = (id: string) => reference.says(id).requestBody.content['application/json'].example;

  await call('checkAlive');
  await call('checkReady');
  await call('showDocument');

  assert.equal((await call('updateSettings', { body: { limits: { sendsPerSecond: 200 } } })).status, 200);

  // The directory.
  await call('putUser', { path: { id: 'mara' }, body: example('putUser') });
  await call('putUserByQuery', { query: { id: 'teo' }, body: { roles: ['deck'] } });
  await call('putUser', { path: { id: 'teo' }, body: { displayName: '', colour: 1 } });
  await call('importUsers', {
    text: '{"id":"ivo","roles":["deck"]}\nno\n',
    headers: { 'Content-Type': 'application/x-ndjson' },
  });
  await call('importUsers', { text: 'no\n' });
  await call('importUsers', { text: '{"id":"ilse"}\n', headers: { Accept: 'application/x-ndjson' } });
  await call('listUsers', { query: { limit: '1' } });
  await call('listUsers', { query: { id: 'mara' } });
  await call('listUsers', { query: { limit: 'none' } });
  await call('showUser', { path: { id: 'mara' } });
  await call('showUser', { path: { id: 'nobody' } });
  await call('putRole', { path: { role: 'engineer' }, body: example('putRole') });
  await call('putRoleByQuery', { query: { role: 'deck' }, body: { presence: 'nobody' } });
  await call('putRole', { path: { role: 'deck' }, body: { presence: 'some' } });
  await call('listRoles');
  await call('listRoles', { query: { role: 'deck' } });
  await call('showRole', { path: { role: 'deck' } });
  await call('showRole', { path: { role: 'nobodys' } });

  // Notifications.
  const sent = await call('sendNotification', {
    body: example('sendNotification'),
    headers: { 'Idempotency-Key': 'a' },
  });
  assert.equal(sent.status, 201);
  assert.match(sent.headers.get('ratelimit') ?? '', /"sends";r=\d+/);
  await call('sendNotification', { body: example('sendNotification'), headers: { 'Idempotency-Key': 'a' } });
  await call('listNotifications', { query: { limit: '1', state: 'stored' } });
  await call('listNotifications', { query: { state: 'lost', since: 'then' } });
  await call('sendNotification', {
    body: { to: ['user:mara'], type: 'b', title: 'B' },
    headers: { 'Idempotency-Key': 'a' },
  });
  await call('sendNotification', { body: { to: ['user:mara'], type: 'test', title: 'T', store: false } });
  await call('sendNotification', { body: { to: ['user:mar'], type: 'test', title: 'T' }, query: { dryRun: 'true' } });
  await call('sendNotification', { body: { to: [], colour: 1 } });
  await call('sendNotification', { text: '{' });
  const deadline = { by: 'read', within: 'PT10M', otherwise: { to: ['role:deck'], type: 'late', title: 'Late' } };
  const due = await call('sendNotification', {
    body: { to: ['user:mara'], type: 'test', title: 'T', ttl: 60, deadlines: [deadline] },
  });
  const id = sent.json.id as string;
  await call('showNotification', { path: { id: due.json.id as string } });
  await call('showNotification', { path: { id } });
  await call('showNotification', { path: { id: 'none' } });

  // What the user does.
  await call('listInbox', { token: mara, query: { state: 'unread', limit: '1' } });
  await call('listInbox', { token: mara, query: { state: 'some' } });
  await call('listInbox', { token: `${mara}x` });
  await call('showInboxItem', { token: mara, path: { id } });
  await call('showInboxItem', { token: mara, path: { id: 'none' } });
  await call('showTotals', { token: mara, query: { by: 'type', subject: 'vessel/turnstone' } });
  await call('showTotals', { token: mara, query: { by: 'colour' } });
  await call('mark', { token: mara, body: { read: { ids: [id] } } });
  await call('mark', { token: mara, body: { unread: { all: true } } });
  await call('mark', { token: mara, body: { read: { upTo: 'none' } } });
  await call('mark', { token: mara, body: {} });
  await call('take', { token: mara, path: { id } });
  await call('take', { token: service.token('ilse', ['engineer']), path: { id } });
  await call('showNotification', { path: { id } });
  await call('release', { token: mara, path: { id } });
  await call('release', { token: mara, path: { id: due.json.id as string } });
  await call('mute', { token: mara, body: example('mute') });
  await call('mute', { token: mara, body: { subject: 'berth/3' } });
  await call('mute', { token: mara, body: {} });
  await call('listMutes', { token: mara });
  await call('unmute', { token: mara, query: { type: 'roster.changed' } });
  await call('showChoices', { token: mara });
  await call('putChoices', { token: mara, body: example('putChoices') });
  await call('putChoices', { token: mara, body: { mutes: [], quiet: { timeZone: 'CET', hours: [] } } });
  await call('putChoices', { token: mara, body: { mutes: [] }, headers: { 'If-Match': '"99999"' } });
  await call('putChoices', { token: mara, body: { mutes: [], quiet: null } });
  await call('createTicket', { token: mara });
  await call('createTicket', { token: service.key });

  // Policies and grants.
  await call('putPolicies', { query: { dryRun: 'true' }, body: example('putPolicies') });
  const loaded = await call('putPolicies', { body: example('putPolicies') });
  await call('putPolicies', { headers: { 'If-Match': '"1"' }, body: { policies: [] } });
  await call('putPolicies', { body: { policies: [{ name: 'none' }] } });
  await call('showPolicies');
  await call('showPolicies', { query: { version: String(loaded.json.version) } });
  await call('showPolicies', { query: { version: '9999' } });
  const grant = await call('createGrant', {
    body: { user: 'mara', topic: 'vessel/turnstone', may: ['follow'], for: '8h' },
  });
  await call('createGrant', { body: { user: 'mara', role: 'deck' } });
  const number = grant.json.grant as number;
  await call('listGrants', { query: { user: 'mara' } });
  await call('showGrant', { path: { grant: number } });
  await call('showGrant', { path: { grant: 9999 } });
  await call('follow', { token: mara, body: example('follow') });
  await call('follow', { token: mara, body: { topic: 'berth/9' } });
  await call('listFollows', { token: mara });
  await call('unfollow', { token: mara, query: { topic: 'vessel/turnstone' } });
  await call('explain', { query: { user: 'mara', on: 'topic:vessel/turnstone' } });
  await call('explain', { query: { user: 'mara', on: 'none' } });
  await call('removeGrant', { path: { grant: number } });
  await call('removeGrant', { path: { grant: number } });
  await call('putDecider', { path: { name: 'rosters' }, body: { url: 'http://rosters.invalid/' } });
  await call('listDeciders');
  await call('showDecider', { path: { name: 'rosters' } });
  await call('removeDecider', { path: { name: 'rosters' } });

  // Events and rules.
  const event = reference.says('publishEvents').requestBody.content['application/cloudevents+json'].example;
  const publish = { headers: { 'Content-Type': 'application/cloudevents+json' } };
  await call('showRules');
  await call('showRuleSchema');
  await call('putRules', { body: example('putRules'), query: { dryRun: 'true' } });
  await call('showTypes');
  await call('putTypes', { body: example('putTypes') });
  await call('putTypes', { body: { types: { a: { nome: 'x' } } } });
  await call('putTypes', { body: { types: {} }, headers: { 'If-Match': '"99999"' } });
  await call('putTypes', { body: { types: {} } });
  await call('showTypes');
  const rules = await call('putRules', { body: example('putRules') });
  await call('putRules', { body: { rules: [{ name: 'none' }] } });
  await call('putRules', { body: { rules: [] }, headers: { 'If-Match': '"1"' } });
  await call('showRules', { query: { version: String(rules.json.version) } });
  await call('showRules', { query: { version: '9999' } });
  assert.equal((await call('publishEvents', { ...publish, body: event })).json.notifications.length, 1);
  assert.equal((await call('publishEvents', { ...publish, body: event })).json.repeated, true);
  await call('publishEvents', { ...publish, body: { ...event, id: 'other' }, query: { dryRun: 'true' } });
  await call('publishEvents', { ...publish, body: { ...event, subject: 'other' } });
  await call('publishEvents', { ...publish, body: { ...event, type: 'engine.chek.due', id: 'c' } });
  await call('publishEvents', { ...publish, body: { id: 'none' } });
  await call('publishEvents', { body: event });
  await call('publishEvents', {
    text: `${JSON.stringify(event)}\nno`,
    headers: { 'Content-Type': 'application/x-ndjson' },
  });
  await call('listEvents', { query: { source: event.source, id: event.id } });
  await call('listEvents', { query: { source: event.source, id: 'none' } });
  await call('listEvents');
  await call('listEvents', { query: { type: 'engine.*', limit: '1' } });
  await call('listEvents', { query: { page: 'nonsense' } });
  const origin = await call('publishEvents', { ...publish, body: { ...event, id: 'd' } });
  await call('showNotification', { path: { id: origin.json.notifications[0].id } });
  await call('tryRules', { body: { event } });
  await call('tryRules', { body: { event, document: 'rules: 1' } });
  await call('tryRules', { body: { event: { ...event, type: 'engine.chek.due' } } });
  const [rule] = example('putRules').rules;
  await call('putRules', { body: { rules: [{ ...rule, notification: { title: '{{ data.berth }}' } }] } });
  const failed = await call('publishEvents', { ...publish, body: { ...event, id: 'e' } });
  const aside = { path: { number: failed.json.setAside.number as number } };
  await call('listSetAside');
  await call('listSetAside', { query: { limit: '0' } });
  await call('showSetAside', aside);
  await call('showSetAside', { path: { number: 9999 } });
  await call('retrySetAside', { ...aside, body: {} });
  await call('retrySetAside', { path: { number: 9999 }, body: {} });
  const retried = await call('retryManySetAside', { body: {} });
  await call('retryManySetAside', { body: { numbers: 'all' } });
  await call('dropSetAside', { path: { number: retried.json.failures[0].number as number } });
  await call('dropSetAside', { path: { number: 9999 } });
  await call('dropManySetAside', { body: { numbers: [1] } });
  await call('sendNotification', { body: [example('sendNotification'), { to: [] }] });

  // Intakes.
  await call('listIntakes');
  for (const name of ['morning', 'none']) {
    const path = { name };
    for (const id of ['showIntake', 'pauseIntake', 'resumeIntake', 'testIntake']) await call(id, { path });
  }

  // Receipts.
  await call('listReceipts', { query: { after: 'start' } });
  await call('listReceipts', { query: { after: 'none' } });
  await call('putWebhook', { path: { name: 'backend' }, body: { url: 'none', states: ['some'] } });
  await call('listWebhooks');
  await call('showWebhook', { path: { name: 'backend' } });
  await call('removeWebhook', { path: { name: 'backend' } });

  // Live, as far as plain requests go.
  const opened = await call('openSession', {
    token: mara,
    headers: { Accept: 'application/json' },
    query: { device: 'phone' },
  });
  const session = (opened.json[0] as Json).session as string;
  await call('pollSession', { token: mara, path: { session }, query: { turn: '1' }, headers: { Prefer: 'wait=0' } });
  await call('pollSession', { token: mara, path: { session }, query: { turn: '9' } });
  await call('postMessages', { token: mara, path: { session }, body: { kind: 'dance' } });
  await call('postMessages', { token: mara, path: { session }, body: { kind: 'attend', subject: null } });
  await call('postMessages', { token: mara, path: { session: 'none' }, body: {} });
  await call('openSession', { token: mara, headers: { Accept: 'text/html' } });

  // Operation.
  await call('showStatus');
  await call('showStatus', { base: '/s/nowhere' });
  await call('listSessions');
  await call('endSession', { path: { session } });
  await call('endSession', { path: { session: 'none' } });
  await call('listLimits');
  await call('showMeters');
  await call('showMeters', { query: { over: '7d' } });
  await call('showMeters', { query: { over: '2h' } });
  await call('listChannels', { query: { search: 'e' } });
  await call('listChannels', { query: { address: 'role:engineer' } });
  await call('listChannels', { query: { limit: '0' } });
  await call('showInbox', { query: { user: 'mara', limit: '1' } });
  await call('showInbox', { query: { user: 'nobody' } });
  await call('showInbox');
  await call('showSettings');
  await call('updateSettings', { body: example('updateSettings') });
  await call('updateSettings', { body: { limits: { sendsPerSecond: -1 } } });
  const reset = await call('updateSettings', { body: { tokens: null, origins: null, limits: null } });
  assert.deepEqual(reset.json.tokens.audiences, []);
  await call('listAudit', { query: { after: '1' } });
  await call('showClock');
  await call('confirmClock');
  await call('createConsoleLink', { body: example('createConsoleLink') });

  // Keys.
  const key = await call('createKey', { body: { ...example('createKey'), types: ['engine.*'] } });
  const narrow = { token: key.json.key as string };
  await call('sendNotification', { ...narrow, body: { to: ['user:mara'], type: 'other', title: 'O' } });
  await call('listUsers', { token: 'rovett_key_none' });
  await call('listKeys', narrow);
  await call('createKey', { body: { scopes: ['some'] } });
  await call('listKeys');
  await call('showKey', { path: { id: key.json.id } });
  await call('showKey', { path: { id: 'none' } });
  const next = await call('rotateKey', { path: { id: key.json.id as string }, body: example('rotateKey') });
  await call('rotateKey', { path: { id: 'none' }, body: { overlap: 'now' } });
  await call('removeKey', { path: { id: next.json.id as string } });
  await call('removeKey', { path: { id: 'none' } });
  await call('addSigningKey', { body: example('addSigningKey') });
  await call('addSigningKey', { body: example('addSigningKey') });
  await call('listSigningKeys');
  await call('showSigningKey', { path: { name: 'backend 2027' } });
  await call('showSigningKey', { path: { name: 'none' } });
  await call('removeSigningKey', { path: { name: 'backend 2027' } });
  await call('removeSigningKey', { path: { name: 'none' } });

  // Spaces.
  await call('createSpace', { body: example('createSpace') });
  await call('createSpace', { body: example('createSpace') });
  await call('listSpaces');
  await call('showSpace', { path: { name: 'harbour' } });
  await call('showSpace', { path: { name: 'none' } });
  await call('removeSpace', { path: { name: 'harbour' } });
  await call('removeSpace', { path: { name: 'main' } });
  await call('createSpace', { body: example('createSpace') });

  // Nodes: this service is alone.
  for (const alone of [
    await call('listNodes'),
    await call('moveSpace', { body: example('moveSpace') }),
    await call('moveSpace', { body: { space: 1 } }),
    await call('drainNode', { body: example('drainNode') }),
    await call('drainNode', { body: {} }),
  ])
    assert.match(String(alone.json.type), /no-cluster|invalid-request/);

  // Last: these end what was made.
  await call('withdrawNotification', { path: { id } });
  await call('withdrawNotification', { path: { id } });
  await call('withdrawNotification', { path: { id: 'none' } });
  await call('signOutUser', { path: { id: 'mara' } });
  await call('signOutByQuery', { query: { id: 'teo' } });
  await call('listInbox', { token: mara });
  await call('eraseUser', { path: { id: 'mara' } });
  await call('eraseUserByQuery', { query: { id: 'teo' } });
  await call('eraseUser', { path: { id: 'mara' } });
  await call('showNotification', { path: { id: due.json.id as string } });
  await call('listAudit');

  assert.deepEqual(
    [...reference.operations.keys()].filter((id) => !reference.called.has(id)),
    [],
  );
  const never = [...reference.called].filter(([, statuses]) => ![...statuses].some((s) => s < 400)).map(([id]) => id);
  // These need a server that is called, or several nodes: their right answers are in the service's own tests.
  assert.deepEqual(never.sort(), [
    'drainNode',
    'listNodes',
    'moveSpace',
    'putDecider',
    'putWebhook',
    'removeDecider',
    'removeWebhook',
    'showDecider',
    'showWebhook',
  ]);
});
