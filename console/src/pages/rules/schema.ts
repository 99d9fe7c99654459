/** As much of a JSON Schema as is read here. */
export interface Schema {
  $ref?: string;
  $defs?: Record<string, Schema>;
  type?: string | string[];
  description?: string;
  enum?: unknown[];
  properties?: Record<string, Schema>;
  additionalProperties?: Schema | boolean;
  items?: Schema;
  anyOf?: Schema[];
  oneOf?: Schema[];
}

interface Key {
  indent: number;
  name: string;
}

/** The first key of a line of YAML; dashes of lists count as indentation. */
function keyOf(line: string): Key | null {
  const found = /^((?:\s|- )*)["']?([^\s"'#][^"':]*(?::\/[^"':]*)?)["']?\s*:(?:\s|$)/.exec(line);
  return found ? { indent: (found[1] as string).length, name: found[2] as string } : null;
}

/** The keys that lead to a line, outermost first, without the line's own. */
export function pathTo(lines: string[], at: number): string[] {
  const line = lines[at] ?? '';
  let indent = /^(?:\s|- )*/.exec(line)?.[0].length ?? 0;
  const path: string[] = [];
  for (let i = at - 1; i >= 0 && indent > 0; i--) {
    const key = keyOf(lines[i] ?? '');
    if (!key || key.indent >= indent) continue;
    // In "- name: x" the dash belongs to the item, and its siblings are as deep as its first key.
    path.unshift(key.name);
    indent = key.indent - (/- $/.test((lines[i] ?? '').slice(0, key.indent)) ? 2 : 0);
  }
  return path;
}

/** All that a schema may be: references, choices and items of lists followed. */
function forms(root: Schema, schema: Schema | undefined): Schema[] {
  if (!schema) return [];
  if (schema.$ref) return forms(root, root.$defs?.[schema.$ref.replace('#/$defs/', '')]);
  const more = [...(schema.anyOf ?? []), ...(schema.oneOf ?? [])].flatMap((s) => forms(root, s));
  return [schema, ...forms(root, schema.items), ...more];
}

function under(root: Schema, schemas: Schema[], key: string): Schema[] {
  return schemas.flatMap((schema) => {
    const given = schema.properties?.[key];
    if (given) return forms(root, given);
    return typeof schema.additionalProperties === 'object' ? forms(root, schema.additionalProperties) : [];
  });
}

/** What may stand at a path. */
export function at(root: Schema, path: string[]): Schema[] {
  return path.reduce((schemas, key) => under(root, schemas, key), forms(root, root));
}

/** The keys that may stand at a path, with what they are for. */
export function keysAt(root: Schema, path: string[]): { name: string; says?: string }[] {
  const all = new Map<string, string | undefined>();
  for (const schema of at(root, path)) {
    for (const [name, of] of Object.entries(schema.properties ?? {})) {
      all.set(name, all.get(name) ?? forms(root, of).find((s) => s.description)?.description);
    }
  }
  return [...all].map(([name, says]) => ({ name, says }));
}

/** What the key of a line is for; null where the schema says nothing. */
export function helpAt(root: Schema, lines: string[], line: number): { key: string; says: string } | null {
  const key = keyOf(lines[line] ?? '');
  if (!key) return null;
  const says = at(root, [...pathTo(lines, line), key.name]).find((s) => s.description)?.description;
  return says ? { key: key.name, says } : null;
}

/** Words that may stand after a key. */
export function valuesAt(root: Schema, lines: string[], line: number): string[] {
  const key = keyOf(lines[line] ?? '');
  if (!key) return [];
  return at(root, [...pathTo(lines, line), key.name]).flatMap((s) => (s.enum ?? []).map(String));
}
