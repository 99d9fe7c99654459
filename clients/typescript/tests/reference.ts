import { createRequire } from 'node:module';
import type { ValidateFunction } from 'ajv';
import type { Service } from './service.js';

const require = createRequire(import.meta.url);
type Ajv = { addSchema(schema: object, key: string): Ajv; compile(schema: object): ValidateFunction };
// Both are CommonJS, whose default is one level down.
const Ajv2020 = require('ajv/dist/2020').default as new (options: object) => Ajv;
const addFormats = require('ajv-formats').default as (ajv: Ajv) => void;

// biome-ignore lint/suspicious/noExplicitAny: documents and answers of every shape are looked into here.
export type Json = any;
export interface Call {
  path?: Record<string, string | number>;
  query?: Record<string, string>;
  headers?: Record<string, string>;
  body?: unknown;
  /** A user's token, in place of the API key. */
  token?: string;
  /** The body is sent as it is. */
  text?: string;
  base?: string;
}

/** The OpenAPI document of a running service, which holds each answer against what it says. */
export class Reference {
  readonly operations = new Map<string, { method: string; path: string; says: Json }>();
  /** Operations that were called, with the statuses they answered. */
  readonly called = new Map<string, Set<number>>();
  readonly #ajv = new Ajv2020({ strict: false, allErrors: true });
  readonly #validators = new Map<string, ValidateFunction>();

  private constructor(
    readonly service: Service,
    readonly document: Json,
  ) {
    addFormats(this.#ajv);
    this.#ajv.addSchema(closed(document), 'document');
    for (const [path, methods] of Object.entries(document.paths as object)) {
      for (const [method, says] of Object.entries(methods as object)) {
        this.operations.set((says as Json).operationId, { method: method.toUpperCase(), path, says: says as Json });
      }
    }
  }

  static async read(service: Service): Promise<Reference> {
    return new Reference(service, (await (await fetch(`${service.url}/v1/openapi.json`)).json()) as Json);
  }

  /** Whether a value is as a JSON Schema of its own says. */
  static fits(schema: object, value: unknown): boolean {
    return new Ajv2020({ strict: false }).compile(schema)(value);
  }

  /** What the document says of an operation. */
  says(id: string): Json {
    return this.operations.get(id)?.says;
  }

  /** Calls an operation, and fails when the answer is not as the document says. */
  async call(id: string, call: Call = {}): Promise<{ status: number; json: Json; headers: Headers }> {
    const operation = this.operations.get(id);
    if (!operation) throw new Error(`no operation ${id}`);
    let path = operation.path;
    for (const [name, value] of Object.entries(call.path ?? {})) {
      path = path.replace(`{${name}}`, encodeURIComponent(value));
    }
    const query = call.query ? `?${new URLSearchParams(call.query)}` : '';
    const answer = await fetch(this.service.url + (call.base ?? '') + path + query, {
      method: operation.method,
      headers: {
        Authorization: `Bearer ${call.token ?? this.service.key}`,
        ...(call.body !== undefined && { 'Content-Type': 'application/json' }),
        ...call.headers,
      },
      body: call.text ?? (call.body === undefined ? undefined : JSON.stringify(call.body)),
    });
    const text = await answer.text();
    this.called.set(id, (this.called.get(id) ?? new Set()).add(answer.status));
    this.#hold(id, operation.says, answer, text);
    if (answer.ok && call.body !== undefined) {
      const [content] = Object.values(operation.says.requestBody.content as object) as Json[];
      if (!Array.isArray(call.body)) this.check(`${id} body`, content.schema, call.body);
    }
    const isJson = text && /json$/.test(mediaOf(answer)) && !isLines(answer);
    return { status: answer.status, json: isJson ? JSON.parse(text) : {}, headers: answer.headers };
  }

  #hold(id: string, says: Json, answer: Response, text: string): void {
    const response = says.responses[String(answer.status)];
    if (!response) throw new Error(`${id} answered ${answer.status}, which the document does not say: ${text}`);
    const media = mediaOf(answer);
    if (!text) {
      if (response.content) throw new Error(`${id} answered ${answer.status} without a body`);
      return;
    }
    const content = response.content?.[media];
    if (!content) throw new Error(`${id} answered ${answer.status} as ${media}, which the document does not say`);
    if (isLines(answer)) {
      for (const line of text.trim().split('\n')) this.check(`${id} ${media}`, content.schema, JSON.parse(line));
      return;
    }
    if (!media.endsWith('json')) return;
    const json = JSON.parse(text) as Json;
    this.check(`${id} ${answer.status} ${media}`, content.schema, json);
    if (media !== 'application/problem+json') return;
    const slug = (json.type as string).split(':').at(-1);
    if (!response.description.includes(`\`${slug}\``)) {
      throw new Error(`${id} answered ${answer.status} ${slug}, which the document does not say`);
    }
  }

  /** Fails when a value is not as a schema of the document says. */
  check(what: string, schema: Json, value: unknown): void {
    const validate = this.#validators.get(what) ?? this.#ajv.compile(closed(inDocument(schema)));
    this.#validators.set(what, validate);
    if (validate(value)) return;
    const wrong = validate.errors?.map((e) => `${e.instancePath} ${e.message} ${JSON.stringify(e.params)}`).join('; ');
    throw new Error(`${what}: ${wrong}: ${JSON.stringify(value)}`);
  }
}

const mediaOf = (answer: Response) => answer.headers.get('content-type')?.split(';')[0] ?? '';
const isLines = (answer: Response) => mediaOf(answer) === 'application/x-ndjson';

/** The same with every reference into the document. */
function inDocument(schema: Json): Json {
  return JSON.parse(JSON.stringify(schema).replaceAll('"#/', '"document#/'));
}

/** The same, where no object has members that are not named: what is undocumented is to be found. */
function closed(value: Json): Json {
  if (Array.isArray(value)) return value.map((item) => closed(item as Json));
  if (value === null || typeof value !== 'object') return value;
  const copy = Object.fromEntries(Object.entries(value).map(([k, v]) => [k, closed(v as Json)])) as Json;
  if (copy.properties && copy.type === 'object' && copy.additionalProperties === undefined) {
    copy.additionalProperties = false;
  }
  return copy;
}
