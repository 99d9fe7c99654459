import assert from 'node:assert/strict';
import { after, before, test } from 'node:test';
import { Ground, isLive } from './ground.js';
import { eventually } from './service.js';

const ground = new Ground();
const { service, network, person } = ground;

before(() => service.start());
after(() => ground.end(13));

test('a topic is heard as long as it is subscribed to, and what came during a cut too', async () => {
  await service.call('PUT', '/v1/policies', {
    policies: [
      { name: 'berths', topic: 'berth/{berth}', may: ['subscribe', 'follow'], when: { role: 'harbour-desk' } },
    ],
  });
  const between = await network();
  const mara = person({ url: between.url, roles: ['harbour-desk'] });
  await isLive(mara.live);
  await assert.rejects(mara.live.subscribe('engine-room/1'));
  await mara.live.subscribe('berth/3');
  await service.send('topic:berth/3', 'one');
  await eventually(() => mara.came.length === 1, 'it came');
  assert.equal(mara.came[0]?.counted, false);
  between.weather = 'silent';
  between.cut();
  await service.send('topic:berth/3', 'two');
  between.weather = 'clear';
  await eventually(() => mara.came.length === 2, 'what came meanwhile came too');
  await mara.live.inbox.follow('berth/3');
  await service.send('topic:berth/3', 'three');
  await eventually(() => mara.live.totals.value?.unread === 1, 'followed, it counts');
});

test('what is said on a topic is heard by the others on it', async () => {
  await service.call('PUT', '/v1/policies', {
    policies: [{ name: 'berths', topic: 'berth/{berth}', may: ['subscribe', 'say'], when: { role: 'harbour-desk' } }],
  });
  const [mara, teo] = [person({ roles: ['harbour-desk'] }), person({ roles: ['harbour-desk'] })];
  const heard: unknown[] = [];
  for (const { live, user } of [mara, teo]) {
    live.onSaid(({ from, data }) => heard.push([user, from, data]));
    await isLive(live);
    await live.subscribe('berth/3');
  }
  await mara.live.say('berth/3', { text: 'Lines are fast' });
  await eventually(() => heard.length === 1, 'it is heard');
  assert.deepEqual(heard, [[teo.user, mara.user, { text: 'Lines are fast' }]]);
  await assert.rejects(mara.live.say('engine-room/1', 'x'), /Not allowed/);
});

test('presence on a topic stays right through cuts and a crash of the service', async () => {
  await service.call('PUT', '/v1/policies', {
    policies: [
      { name: 'berths', topic: 'berth/{berth}', may: ['subscribe', 'presence'], when: { role: 'harbour-desk' } },
    ],
  });
  const between = await network();
  const mara = person({ url: between.url, roles: ['harbour-desk'] });
  await isLive(mara.live);
  const here = mara.live.presence('topic:berth/5');
  const shown = () => here.value.people?.map((p) => p.user).sort();
  await eventually(() => here.value.count === 0, 'nobody is there');
  const [teo, pia] = [person({ roles: ['harbour-desk'] }), person({ roles: ['harbour-desk'] })];
  for (const { live } of [teo, pia]) {
    await isLive(live);
    await live.subscribe('berth/5');
  }
  await eventually(() => here.value.count === 2, 'both are there');
  assert.deepEqual(shown(), [teo.user, pia.user].sort());
  between.cut();
  await teo.live.unsubscribe('berth/5');
  await eventually(() => here.value.count === 1, 'one has left');
  await service.crash();
  await eventually(
    () => teo.live.state.value.phase === 'live' && mara.live.state.value.reconnects >= 2,
    'all are back',
  );
  await teo.live.subscribe('berth/5');
  await eventually(() => here.value.count === 2, 'right again after a crash');
  assert.deepEqual(shown(), [teo.user, pia.user].sort());
  const refused = mara.live.presence('role:engineer');
  await eventually(() => refused.value.error, 'it is refused');
  here.close();
  refused.close();
  assert.deepEqual(mara.reports, []);
});
