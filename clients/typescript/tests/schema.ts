import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import { resolve } from 'node:path';
import type { ErrorObject, ValidateFunction } from 'ajv';

const require = createRequire(import.meta.url);
export const docs = resolve(import.meta.dirname, '../../../../docs');

type Ajv = { addSchema(schema: object, key: string): Ajv; compile(schema: object): ValidateFunction };
// Both are CommonJS, whose default is one level down.
const Ajv2020 = require('ajv/dist/2020').default as new (options: object) => Ajv;
const addFormats = require('ajv-formats').default as (ajv: Ajv) => void;

const schema = JSON.parse(readFileSync(resolve(docs, 'messages.schema.json'), 'utf8'));
const ajv = new Ajv2020({ strict: true, strictRequired: false, allErrors: true, allowUnionTypes: true });
addFormats(ajv);
ajv.addSchema(schema, 'messages');

/** What is wrong with a message, by the published schema; empty: nothing. */
export function wrongWith(message: { kind?: unknown }, way: 'fromService' | 'fromDevice'): string {
  const name = message.kind === 'totals' ? 'totalsNow' : String(message.kind);
  const known = (schema.$defs[way].oneOf as { $ref: string }[]).some(({ $ref }) => $ref === `#/$defs/${name}`);
  if (!known) return `${name} is no message ${way}`;
  const validate = compiled(name);
  if (validate(message)) return '';
  return `${(validate.errors as ErrorObject[]).map((e) => `${e.instancePath} ${e.message} ${JSON.stringify(e.params)}`).join('; ')}: ${JSON.stringify(message)}`;
}

const validators = new Map<string, ValidateFunction>();
function compiled(name: string): ValidateFunction {
  const known = validators.get(name) ?? ajv.compile({ $ref: `messages#/$defs/${name}` });
  validators.set(name, known);
  return known;
}

/** Kinds that were seen, and what was wrong with any. */
export const seen = new Set<string>();
export const wrong: string[] = [];

export function look(message: { kind?: unknown }, way: 'fromService' | 'fromDevice'): void {
  seen.add(String(message.kind));
  const trouble = wrongWith(message, way);
  if (trouble) wrong.push(trouble);
}

/** A WebSocket that holds everything against the published schema. */
export class CheckedWebSocket extends WebSocket {
  constructor(url: string | URL, protocols?: string | string[]) {
    super(url, protocols);
    this.addEventListener('message', (event) => look(JSON.parse(event.data), 'fromService'));
  }

  override send(data: string): void {
    look(JSON.parse(data), 'fromDevice');
    super.send(data);
  }
}
