import { isObject, joinName, type JsonObject, type JsonValue, type Node } from '@uproar/core';

const COMPARISONS = new Set(['=', '<', '>', '<=', '>=', 'between', 'in', 'like']);

/** What a condition asks of fields that no document can have which fits a schema. */
export function schemaWarnings(where: Node, schema: JsonObject): string[] {
  const warnings = new Set<string>();
  const visit = (node: Node): void => {
    if (node.kind === 'property') {
      if (isForbidden(schema, node.path)) warnings.add(`The schema has no field ${joinName(node.path)}.`);
      return;
    }
    if (node.kind !== 'call') return;
    node.args.forEach(visit);
    if (COMPARISONS.has(node.name)) compare(node, schema, warnings);
  };
  visit(where);
  return [...warnings];
}

function compare({ name, args }: Node & { kind: 'call' }, schema: JsonObject, warnings: Set<string>): void {
  const field = args.find((node) => node.kind === 'property');
  const values = args
    .flatMap((node) => (node.kind === 'array' ? node.items : node))
    .flatMap((node) => (node.kind === 'literal' ? [node.value] : []));
  const at = field?.kind === 'property' ? schemaAt(schema, field.path) : undefined;
  if (field?.kind !== 'property' || !at || values.length === 0) return;
  const types = typesOf(at);
  const shown = joinName(field.path);
  const wanted = [...new Set(values.map((value) => typeof value as string))];
  if (types && !wanted.some((type) => types.includes(type))) {
    warnings.add(
      `According to the schema, ${shown} is ${types.join(' or ')}. Comparing it with a ${wanted.join(' or ')} is never true.`,
    );
  } else if (
    Array.isArray(at.enum) &&
    (name === '=' || name === 'in') &&
    !values.some((value) => (at.enum as JsonValue[]).includes(value))
  ) {
    const allowed = at.enum
      .slice(0, 12)
      .map((value) => JSON.stringify(value))
      .join(', ');
    warnings.add(`According to the schema, ${shown} is one of ${allowed}, so this is never true.`);
  }
}

/** The part of a schema that says what a field is to be like; undefined where it says nothing. */
function schemaAt(schema: JsonValue | undefined, path: readonly string[]): JsonObject | undefined {
  let at = schema;
  for (const name of path) {
    const properties = isObject(at) ? at.properties : undefined;
    at = isObject(properties) && Object.hasOwn(properties, name) ? properties[name] : undefined;
  }
  return isObject(at) ? at : undefined;
}

function isForbidden(schema: JsonObject, path: readonly string[]): boolean {
  const above = schemaAt(schema, path.slice(0, -1));
  return above?.additionalProperties === false && !above.patternProperties && !schemaAt(schema, path);
}

/** The types that a schema allows, as conditions distinguish them; undefined where it does not say. */
function typesOf({ type }: JsonObject): string[] | undefined {
  if (type === undefined) return undefined;
  const types = (Array.isArray(type) ? type : [type]).map((one) => (one === 'integer' ? 'number' : String(one)));
  return [...new Set(types.filter((one) => one !== 'null'))];
}
