import type { JsonObject, JsonValue } from '../json/json.js';
import type { FieldShape, Shape, ShapeType } from './shapes.js';

/** A field of a shape with those inside it. */
interface Branch {
  field: FieldShape | undefined;
  members: Map<string, Branch>;
  items: Branch | undefined;
}

/** Fewer documents than this say nothing about which values there are. */
const FEWEST_FOR_VALUES = 20;

const JSON_TYPES: Record<ShapeType, string> = {
  text: 'string',
  time: 'string',
  number: 'number',
  boolean: 'boolean',
  null: 'null',
  list: 'array',
  object: 'object',
  place: 'object',
};

/**
 * A JSON Schema (2020-12) that the sampled documents satisfy, as a proposal to edit. Fields that all documents have are
 * required, rare fields are left out, and additional fields are allowed.
 */
export function proposeSchema(shape: Shape): JsonObject {
  const root: Branch = { field: undefined, members: new Map(), items: undefined };
  for (const field of shape.fields) if (!field.rare) branchAt(root, field.name).field = field;
  return { $schema: 'https://json-schema.org/draft/2020-12/schema', ...objectSchema(root, shape.documents) };
}

/** The branch of a name such as `pilot.name`, `colours[]` or `stops[].at`. */
function branchAt(root: Branch, name: string): Branch {
  const fresh = (): Branch => ({ field: undefined, members: new Map(), items: undefined });
  let branch = root;
  for (const [, quoted, plain, lists] of name.matchAll(/(?:"((?:[^"]|"")*)"|([^."[\]]+))((?:\[\])*)\.?/g)) {
    const key = quoted === undefined ? plain! : quoted.replaceAll('""', '"');
    let next = branch.members.get(key);
    if (!next) branch.members.set(key, (next = fresh()));
    branch = next;
    for (let depth = lists!.length / 2; depth > 0; depth--) branch = branch.items ??= fresh();
  }
  return branch;
}

/** @param documents how many documents have the object; undefined inside lists, where it is not counted */
function objectSchema({ members }: Branch, documents: number | undefined): JsonObject {
  const properties: JsonObject = {};
  const required: string[] = [];
  for (const [name, branch] of members) {
    Object.defineProperty(properties, name, { value: schemaOf(branch, documents), enumerable: true, writable: true });
    if (documents !== undefined && documents > 0 && branch.field?.documents === documents) required.push(name);
  }
  return { type: 'object', properties, ...(required.length > 0 ? { required } : {}) };
}

function schemaOf(branch: Branch, around: number | undefined): JsonObject {
  const { field } = branch;
  if (!field) return {};
  const found = Object.keys(field.types) as ShapeType[];
  const types = [...new Set(found.map((type) => (type === 'number' && isWhole(field) ? 'integer' : JSON_TYPES[type])))];
  const schema: JsonObject = types.length === 1 ? { type: types[0]! } : { type: types };
  if (found.includes('object') || found.includes('place')) {
    const objects = found.includes('place') ? undefined : field.types.object;
    const { properties, required } = objectSchema(branch, around === undefined ? undefined : objects);
    if (found.includes('place')) Object.assign(schema, { required: ['type', 'coordinates'] });
    else Object.assign(schema, { properties, ...(required ? { required } : {}) });
  }
  if (found.includes('list') && branch.items) {
    // Objects in a list are described only by their members.
    schema.items = branch.items.field ? schemaOf(branch.items, undefined) : objectSchema(branch.items, undefined);
  }
  const values = valuesOf(field, found);
  if (values) schema.enum = values;
  else if (found.length === 1 && found[0] === 'time' && isDateTime(field)) schema.format = 'date-time';
  return schema;
}

/** The texts there are, where they are few and always the same. */
function valuesOf({ values, types }: FieldShape, found: readonly ShapeType[]): JsonValue[] | undefined {
  const plain = found.every((type) => type === 'text' || type === 'null');
  const { text = 0 } = types;
  if (!values || !plain || text < FEWEST_FOR_VALUES || values.length * 5 > text) return undefined;
  return found.includes('null') ? [...values, null] : values;
}

/** Whether all numbers are integers. A single repeated value is not enough evidence. */
function isWhole({ whole, numbers }: FieldShape): boolean {
  return whole === true && numbers!.min < numbers!.max;
}

/** Whether times are whole ones, as the format has them (RFC 3339, section 5.6). */
function isDateTime({ examples, times }: FieldShape): boolean {
  return [...examples, times!.min, times!.max].every((time) => /T.*(Z|[+-]\d\d:\d\d)$/.test(String(time)));
}
