import { joinName } from './names.js';
import type { CallNode, Geometry, Node } from './tree.js';

/** How tightly an operator binds; a part that binds less than its surroundings stands in parentheses. */
const BINDING: Readonly<Record<string, number>> = {
  or: 1,
  and: 2,
  not: 3,
  '+': 5,
  '-': 5,
  '*': 6,
  '/': 6,
  '%': 6,
  div: 6,
  '^': 7,
};
const COMPARING = 4;
const NAMES_IN_CAPITALS = new Set(['casei', 'accenti']);

/** Names that must be quoted when a field is called so, because the language uses them. */
const RESERVED = /^(and|or|not|is|null|like|between|in|true|false|div|date|timestamp|interval|bbox)$/i;

/** Writes a condition as CQL2 text. Reading it again gives the same condition. */
export function formatText(node: Node): string {
  return write(node, 0);
}

function write(node: Node, surroundings: number): string {
  switch (node.kind) {
    case 'literal':
      return writeLiteral(node.value);
    case 'property':
      return node.path.map((part) => (RESERVED.test(part) ? `"${part}"` : joinName([part]))).join('.');
    case 'missing':
      return 'NULL';
    case 'object':
      return JSON.stringify(node.value);
    case 'array':
      return `[${node.items.map((item) => write(item, 0)).join(', ')}]`;
    case 'date':
    case 'timestamp':
      return `${node.kind.toUpperCase()}('${node.text}')`;
    case 'interval':
      return `INTERVAL(${[node.from, node.to].map(writeEnd).join(', ')})`;
    case 'geometry':
      return writeGeometry(node.geometry);
    case 'bbox':
      return `BBOX(${node.box.join(', ')})`;
    case 'call': {
      const binding = BINDING[node.name] ?? (isComparing(node.name) ? COMPARING : 9);
      const text = writeCall(node, binding);
      return binding < surroundings ? `(${text})` : text;
    }
  }
}

function isComparing(name: string): boolean {
  return /^([=<>]|<>|<=|>=|like|between|in|isNull)$/.test(name);
}

function writeLiteral(value: string | number | boolean): string {
  if (typeof value === 'string') return `'${value.replaceAll("'", "''")}'`;
  return typeof value === 'boolean' ? String(value).toUpperCase() : String(value);
}

function writeEnd(end: Node | undefined): string {
  if (end === undefined) return "'..'";
  return end.kind === 'date' || end.kind === 'timestamp' ? `'${end.text}'` : write(end, 0);
}

function writeCall({ name, args }: CallNode, binding: number): string {
  const part = (index: number, surroundings: number) => write(args[index]!, surroundings);
  switch (name) {
    case 'and':
    case 'or':
      return args.map((arg) => write(arg, binding + 1)).join(` ${name.toUpperCase()} `);
    case 'not':
      return `NOT ${part(0, binding)}`;
    case 'isNull':
      return `${part(0, COMPARING + 1)} IS NULL`;
    case 'like':
      return `${part(0, COMPARING + 1)} LIKE ${part(1, COMPARING + 1)}`;
    case 'between':
      return `${part(0, COMPARING + 1)} BETWEEN ${part(1, COMPARING + 1)} AND ${part(2, COMPARING + 1)}`;
    case 'in': {
      const list = args[1]!;
      const items = list.kind === 'array' ? list.items : [list];
      return `${part(0, COMPARING + 1)} IN (${items.map((item) => write(item, 0)).join(', ')})`;
    }
    case '^':
      return `${part(0, binding + 1)} ^ ${part(1, binding)}`;
    default:
      if (binding < 9)
        return `${part(0, binding === COMPARING ? binding + 1 : binding)} ${name.toUpperCase()} ${part(1, binding + 1)}`;
      return `${writeName(name)}(${args.map((arg) => write(arg, 0)).join(', ')})`;
  }
}

function writeName(name: string): string {
  return /^[ast]_/.test(name) || NAMES_IN_CAPITALS.has(name) ? name.toUpperCase() : name;
}

function writeGeometry({ type, coordinates, geometries }: Geometry): string {
  if (geometries) return `GEOMETRYCOLLECTION(${geometries.map(writeGeometry).join(', ')})`;
  const inside = writeCoordinates(coordinates as never);
  return `${type.toUpperCase()}${type === 'Point' ? `(${inside})` : inside}`;
}

function writeCoordinates(coordinates: never): string {
  const list = coordinates as (number | never)[];
  if (typeof list[0] === 'number') return list.join(' ');
  return `(${list.map((item) => writeCoordinates(item as never)).join(', ')})`;
}
