import assert from 'node:assert/strict';
import { readdirSync, readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { resolve } from 'node:path';
import { test } from 'node:test';
import { parse } from 'yaml';
import { docs, wrongWith } from './schema.js';

const require = createRequire(import.meta.url);

test('the schema knows wrong messages from right ones', () => {
  const cursor = 'a'.repeat(22);
  assert.equal(wrongWith({ kind: 'current', cursor } as object, 'fromService'), '');
  for (const message of [
    { kind: 'current' },
    { kind: 'current', cursor, extra: 1 },
    { kind: 'current', cursor: 'short' },
  ])
    assert.notEqual(wrongWith(message, 'fromService'), '');
  assert.notEqual(wrongWith({ kind: 'current', cursor } as object, 'fromDevice'), '');
  assert.notEqual(wrongWith({ kind: 'ack', upTo: cursor, ids: ['x'] } as object, 'fromDevice'), '');
});

test('the AsyncAPI document is one, and every reference in it leads somewhere', () => {
  const document = parse(readFileSync(resolve(docs, 'asyncapi.yaml'), 'utf8'));
  const Ajv = require('ajv').default;
  const ajv = new Ajv({ strict: false, allErrors: true, validateFormats: false });
  const validate = ajv.compile(require('@asyncapi/specs/schemas/3.0.0-without-$id.json'));
  assert.ok(validate(document), JSON.stringify(validate.errors?.slice(0, 3)));
  const schema = JSON.parse(readFileSync(resolve(docs, 'messages.schema.json'), 'utf8'));
  let references = 0;
  const follow = (node: unknown): void => {
    if (typeof node !== 'object' || node === null) return;
    const { $ref } = node as { $ref?: string };
    if ($ref) {
      references++;
      const [file, path = ''] = $ref.split('#');
      let at: unknown = file ? schema : document;
      for (const part of path.split('/').slice(1)) at = (at as Record<string, unknown>)?.[part];
      assert.ok(at, $ref);
    }
    for (const inner of Object.values(node)) follow(inner);
  };
  follow(document);
  assert.ok(references > 100);
});

test('what the recorded conversations say is as the schema has it', () => {
  const folder = resolve(docs, 'conformance');
  const kinds = new Set<string>();
  for (const file of readdirSync(folder).filter((name) => name.endsWith('.json') && !name.includes('unknown'))) {
    const { steps } = JSON.parse(readFileSync(resolve(folder, file), 'utf8'));
    for (const { says } of steps) {
      if (!says) continue;
      kinds.add(says.kind);
      assert.equal(wrongWith(says, 'fromService'), '', file);
    }
  }
  assert.ok(kinds.size >= 8, [...kinds].join(' '));
});
