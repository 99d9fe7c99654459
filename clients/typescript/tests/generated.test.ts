import assert from 'node:assert/strict';
import { execFileSync } from 'node:child_process';
import { mkdirSync, writeFileSync } from 'node:fs';
import { resolve } from 'node:path';
import { after, before, test } from 'node:test';
import openapiTS, { astToString } from 'openapi-typescript';
import { Service } from './service.js';

const folder = resolve(import.meta.dirname, '../..');
let service: Service;

before(async () => {
  service = await new Service().start();
});
after(() => service.end());

test('a client that is generated from the document compiles, and sends, lists and marks', async () => {
  const types = await openapiTS(new URL(`${service.url}/v1/openapi.json`));
  mkdirSync(resolve(folder, 'build/reference'), { recursive: true });
  writeFileSync(resolve(folder, 'build/reference/schema.d.ts'), astToString(types));
  const tsc = resolve(folder, '../../node_modules/typescript/bin/tsc');
  execFileSync(process.execPath, [tsc, '-p', resolve(folder, 'generated')], { stdio: 'inherit' });
  const { sendListAndMark } = await import(resolve(folder, 'build/generated/client.js'));
  assert.deepEqual(await sendListAndMark(service.url, service.key, service.token('mara')), [1, 0]);
});

test('the console asks by the types of the document as it is', async () => {
  const { schemaOf, written } = await import(resolve(folder, '../../console/schema.mjs'));
  const document = await (await fetch(`${service.url}/v1/openapi.json`)).json();
  assert.equal(written(), await schemaOf(document), 'run node console/schema.mjs with the address of the service');
});
