import { isObject, type JsonValue } from '../json/json.js';
import { compile } from '../query/evaluate.js';
import type { Node } from '../query/tree.js';
import { findClaim, type Claims } from '../query/claims.js';

/** A condition without claims: always true, never true, or to be evaluated on documents. */
export type BoundCondition = boolean | Node;

const MISSING: Node = { kind: 'missing' };
const NOTHING = { document: { id: '', version: 0, created: '', updated: '', data: {} } };

/**
 * Inserts the claims of an identity into a condition, and evaluates what does not depend on a document. Identities with
 * the same result share the same condition.
 */
export function bindClaims(node: Node, claims: Claims): BoundCondition {
  return simplify(substitute(node, claims));
}

/** Joins conditions with AND. */
export function joinBound(...parts: readonly BoundCondition[]): BoundCondition {
  return junction(
    'and',
    parts.map((part) => (typeof part === 'boolean' ? { kind: 'literal', value: part } : part)),
  );
}

function substitute(node: Node, claims: Claims): Node {
  if (node.kind === 'array') return { ...node, items: node.items.map((item) => substitute(item, claims)) };
  if (node.kind === 'interval') {
    const [from, to] = [node.from, node.to].map((end) => end && substitute(end, claims));
    return { ...node, from, to };
  }
  if (node.kind !== 'call') return node;
  const [name] = node.args;
  if (node.name === 'claim' && name?.kind === 'literal') return nodeOf(findClaim(claims, String(name.value)));
  return { ...node, args: node.args.map((arg) => substitute(arg, claims)) };
}

function nodeOf(value: JsonValue | undefined): Node {
  if (Array.isArray(value)) return { kind: 'array', items: value.map(nodeOf) };
  if (value === null || value === undefined) return MISSING;
  return isObject(value) ? { kind: 'object', value } : { kind: 'literal', value };
}

/** Evaluates parts from the top: where only true counts, unknown counts as false. */
function simplify(node: Node): BoundCondition {
  if (node.kind === 'call' && (node.name === 'and' || node.name === 'or')) return junction(node.name, node.args);
  if (isConstant(node)) return compile(node)(NOTHING) === true;
  if (isUnknown(node)) return false;
  return asMembership(node) ?? node;
}

function junction(name: 'and' | 'or', parts: readonly Node[]): BoundCondition {
  const decides = name === 'or';
  const open: Node[] = [];
  for (const part of parts.map(simplify)) {
    if (part === decides) return decides;
    if (typeof part === 'boolean') continue;
    if (part.kind === 'call' && part.name === name) open.push(...part.args);
    else open.push(part);
  }
  if (open.length === 0) return !decides;
  return open.length === 1 ? open[0]! : { kind: 'call', name, args: open };
}

/** The functions that can be true for a missing value. */
const TAKES_MISSING = new Set(['and', 'or', 'not', 'isNull', 'type']);

/** Whether a value is missing without which a condition cannot be true. */
function isUnknown(node: Node): boolean {
  if (node.kind === 'missing') return true;
  if (node.kind === 'array') return node.items.some(isUnknown);
  if (node.kind !== 'call' || TAKES_MISSING.has(node.name)) return false;
  return node.name === 'in' ? isUnknown(node.args[0]!) : node.args.some(isUnknown);
}

function isConstant(node: Node): boolean {
  switch (node.kind) {
    case 'property':
      return false;
    case 'array':
      return node.items.every(isConstant);
    case 'interval':
      return [node.from, node.to].every((end) => end === undefined || isConstant(end));
    case 'call':
      return node.name !== 'meta' && node.name !== 'was' && node.args.every(isConstant);
    default:
      return true;
  }
}

/** `A_CONTAINS(list of the claims, [field])` is true when `field IN (list)` is, which can be looked up. */
function asMembership(node: Node): BoundCondition | undefined {
  if (node.kind !== 'call' || node.name !== 'a_contains') return undefined;
  const [list, items] = node.args;
  if (list?.kind !== 'array' || items?.kind !== 'array' || items.items.length !== 1) return undefined;
  const [field] = items.items;
  if (field?.kind !== 'property' || !list.items.every(({ kind }) => kind === 'literal')) return undefined;
  return list.items.length > 0 && { kind: 'call', name: 'in', args: [field, list] };
}
