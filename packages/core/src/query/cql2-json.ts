import type { JsonObject, JsonValue } from '../json/json.js';
import { joinName, splitName } from './names.js';
import { findOperator, isCondition } from './operators.js';
import { readInstant } from './read-instant.js';
import { asGeometry } from './spatial.js';
import { QUERY_LIMITS, QueryError, type Node } from './tree.js';

/**
 * Reads a condition in CQL2 JSON (OGC 21-065r2, section 8).
 *
 * @throws {QueryError} with a JSON Pointer to the part at fault
 */
export function parseCql2Json(value: JsonValue): Node {
  let nodes = 0;

  const read = (part: JsonValue, pointer: string, depth: number): Node => {
    const fail = (message: string) => new QueryError(message, undefined, pointer);
    if (++nodes > QUERY_LIMITS.nodes)
      throw fail(`The condition has more than ${QUERY_LIMITS.nodes} parts. Use several queries.`);
    if (depth > QUERY_LIMITS.depth) throw fail(`The condition is nested deeper than ${QUERY_LIMITS.depth} levels.`);
    if (part === null) throw fail('null is no value; ask with {"op":"isNull"}.');
    if (typeof part !== 'object') return { kind: 'literal', value: part };
    if (Array.isArray(part))
      return { kind: 'array', items: part.map((item, index) => read(item, `${pointer}/${index}`, depth + 1)) };
    return readObject(part, pointer, depth, fail);
  };

  const readObject = (
    part: JsonObject,
    pointer: string,
    depth: number,
    fail: (message: string) => QueryError,
  ): Node => {
    if ('op' in part) return readCall(part, pointer, depth, fail);
    if (typeof part.property === 'string') return { kind: 'property', path: splitName(part.property) };
    if (typeof part.date === 'string') return readInstant('DATE', part.date, undefined, `${pointer}/date`);
    if (typeof part.timestamp === 'string')
      return readInstant('TIMESTAMP', part.timestamp, undefined, `${pointer}/timestamp`);
    if (Array.isArray(part.interval) && part.interval.length === 2) {
      const [from, to] = part.interval.map((end, index) => {
        if (end === '..') return undefined;
        const place = `${pointer}/interval/${index}`;
        return typeof end === 'string' ? readInstant(undefined, end, undefined, place) : read(end, place, depth + 1);
      });
      return { kind: 'interval', from, to };
    }
    if (
      Array.isArray(part.bbox) &&
      [4, 6].includes(part.bbox.length) &&
      part.bbox.every((number) => typeof number === 'number')
    ) {
      return { kind: 'bbox', box: part.bbox as number[] };
    }
    const geometry = asGeometry(part);
    if (geometry) return { kind: 'geometry', geometry };
    throw fail(
      'This is no part of a condition: it has none of "op", "property", "date", "timestamp", "interval", "bbox", nor is it a GeoJSON geometry.',
    );
  };

  const readCall = (part: JsonObject, pointer: string, depth: number, fail: (message: string) => QueryError): Node => {
    const { op, args } = part;
    if (typeof op !== 'string') throw fail('"op" must be the name of an operator.');
    if (!Array.isArray(args)) throw fail('"args" must be a list.');
    const operator = findOperator(op, undefined, `${pointer}/op`);
    const [fewest, most] = op === '-' ? [1, 2] : operator.args;
    if (args.length < fewest || args.length > most)
      throw fail(`"${op}" takes ${fewest === most ? fewest : `${fewest} or more`} arguments, not ${args.length}.`);
    const nodes = args.map((arg, index) => read(arg, `${pointer}/args/${index}`, depth + 1));
    if (operator.takes === 'boolean') {
      const index = nodes.findIndex((node) => !isCondition(node));
      if (index !== -1) throw new QueryError(`"${op}" takes conditions.`, undefined, `${pointer}/args/${index}`);
    }
    if (operator.name === 'in' && (nodes[1]!.kind !== 'array' || nodes[1]!.items.length === 0))
      throw fail('"in" takes a value and a list.');
    if (op === '-' && nodes.length === 1) nodes.unshift({ kind: 'literal', value: 0 });
    return { kind: 'call', name: operator.name, args: nodes };
  };

  const node = read(value, '', 0);
  if (!isCondition(node)) throw new QueryError('This is a value, not a condition.', undefined, '');
  return node;
}

/** Writes a condition as CQL2 JSON. */
export function formatCql2Json(node: Node): JsonValue {
  switch (node.kind) {
    case 'literal':
      return node.value;
    case 'property':
      return { property: joinName(node.path) };
    case 'missing':
      return null;
    case 'object':
      return node.value;
    case 'array':
      return node.items.map(formatCql2Json);
    case 'date':
    case 'timestamp':
      return { [node.kind]: node.text };
    case 'interval':
      return {
        interval: [node.from, node.to].map((end) =>
          end === undefined ? '..' : isInstant(end) ? end.text : formatCql2Json(end),
        ),
      };
    case 'geometry':
      return node.geometry as unknown as JsonObject;
    case 'bbox':
      return { bbox: node.box };
    case 'call':
      return { op: node.name, args: node.args.map(formatCql2Json) };
  }
}

function isInstant(node: Node): node is Extract<Node, { kind: 'date' | 'timestamp' }> {
  return node.kind === 'date' || node.kind === 'timestamp';
}
