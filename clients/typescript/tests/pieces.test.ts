import assert from 'node:assert/strict';
import { test } from 'node:test';
import { safe } from '../src/pieces/links.js';
import { type Inside, Own, type Part, part } from '../src/pieces/part.js';
import { defaultTexts, fillIn } from '../src/pieces/texts.js';
import { ago } from '../src/pieces/times.js';

const now = Date.parse('2026-11-29T12:00:00Z');
const before = (seconds: number) => ago(new Date(now - seconds * 1000).toISOString(), now);

test('times are told as people say them, and by their date when they are old', () => {
  assert.equal(before(0), 'now');
  assert.equal(before(59), 'now');
  assert.equal(before(-30), 'now'); // the other clock is ahead
  assert.match(before(60), /^1 min/);
  assert.match(before(3599), /^59 min/);
  assert.match(before(3600), /^1 hr/);
  assert.equal(before(86_400), 'yesterday');
  assert.match(before(3 * 86_400), /^3 days/);
  assert.match(before(8 * 86_400), /2026/);
});

test('a link leads to a page, and runs nothing', () => {
  for (const link of ['/checks/7', 'checks/7', 'https://a.example/', 'mailto:desk@marrowsound.example', '?tab=1'])
    assert.equal(safe(link), link);
  for (const link of [
    'javascript:alert(1)',
    ' JaVaScRiPt:alert(1)',
    'data:text/html,x',
    'vbscript:x',
    'https://',
    '',
    undefined,
  ])
    assert.equal(safe(link), undefined, link);
});

test('texts are filled in, and unknown placeholders stay visible', () => {
  assert.equal(fillIn(defaultTexts.bell, { unread: 128 }), 'Notifications, 128 unread');
  assert.equal(fillIn('{count} {what}', { count: 0 }), '0 {what}');
});

test('a part leaves out what is not there, and keeps what is the page’s own', () => {
  const own = new Own({ of: 'the page' });
  const made: Part = part('p', 'title', { key: 'a', title: 'x' }, 'one', null, false, undefined, own);
  const inside: Inside[] = ['one', own];
  assert.deepEqual(made, { tag: 'p', name: 'title', key: 'a', props: { title: 'x' }, inside });
});
