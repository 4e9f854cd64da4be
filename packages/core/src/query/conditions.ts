import { compareStrings } from '../json/order.js';
import type { Node } from './tree.js';

/** A plain value that fields are compared with. */
export type Scalar = string | number | boolean;

/** One end of a range. */
export interface Bound {
  value: string | number;
  inclusive: boolean;
}

/** What a document's value at a path must be for a condition to be true. */
export type Requirement =
  | { kind: 'equal'; path: readonly string[]; meta: boolean; values: readonly Scalar[] }
  | { kind: 'range'; path: readonly string[]; meta: boolean; low: Bound | undefined; high: Bound | undefined };

const MIRRORED: Readonly<Record<string, string>> = { '=': '=', '<': '>', '>': '<', '<=': '>=', '>=': '<=', '<>': '<>' };
const OPPOSITE: Readonly<Record<string, string>> = { '=': '<>', '<>': '=', '<': '>=', '>=': '<', '>': '<=', '<=': '>' };

/**
 * Finds what must hold of single fields whenever a condition is true: alternatives, of which at least one holds, each a
 * row of requirements that all hold. Both the matcher and the planner choose from them; neither needs them to say all
 * that the condition says.
 *
 * @returns undefined when nothing of use must hold
 */
export function findRequirements(node: Node, maxAlternatives = 200): Requirement[][] | undefined {
  const alternatives = alternativesOf(node, false, maxAlternatives);
  return alternatives?.every((row) => row.length > 0) ? alternatives.map(joinRanges) : undefined;
}

/**
 * Finds requirements that say all that a condition says: it is true of a document exactly if all of them hold. So an index
 * that covers them decides, and documents need not be looked at.
 *
 * @returns undefined when the condition says more
 */
export function findExactRequirements(node: Node): Requirement[] | undefined {
  const row = exactRow(node);
  return row && joinRanges(row);
}

function exactRow(node: Node): Requirement[] | undefined {
  if (node.kind !== 'call') return undefined;
  const { name, args } = node;
  if (name === 'and') {
    const rows = args.map(exactRow);
    return rows.every((row) => row !== undefined) ? rows.flat() : undefined;
  }
  if (name === 'between') {
    const [value, low, high] = args as [Node, Node, Node];
    const from = exactRow({ kind: 'call', name: '>=', args: [value, low] });
    const to = exactRow({ kind: 'call', name: '<=', args: [value, high] });
    return from && to && [...from, ...to];
  }
  if (name !== 'in' && !Object.hasOwn(MIRRORED, name)) return undefined;
  // meta(), claims and functions are left to the condition, and so are fields with concealed parts.
  if (args.some((arg) => arg.kind === 'call' || (arg.kind === 'property' && arg.without))) return undefined;
  const row = requirementOf(name, args, false);
  return row.length > 0 ? row : undefined;
}

function alternativesOf(node: Node, negated: boolean, most: number): Requirement[][] | undefined {
  if (node.kind !== 'call') return [[]];
  const { name, args } = node;
  if (name === 'not') return alternativesOf(args[0]!, !negated, most);
  if (name === 'and' || name === 'or') {
    const parts = args.map((arg) => alternativesOf(arg, negated, most));
    return (name === 'and') !== negated ? conjoin(parts, most) : disjoin(parts, most);
  }
  if (name === 'between') {
    const [value, low, high] = args as [Node, Node, Node];
    const below: Node = { kind: 'call', name: '<', args: [value, low] };
    const above: Node = { kind: 'call', name: '>', args: [value, high] };
    return alternativesOf({ kind: 'call', name: 'or', args: [below, above] }, !negated, most);
  }
  return [requirementOf(name, args, negated)];
}

/** Of the parts of an AND with several alternatives, the one with the fewest suffices; single ones are added to each. */
function conjoin(parts: (Requirement[][] | undefined)[], most: number): Requirement[][] {
  const known = parts.filter((part) => part !== undefined);
  const common = known.filter((part) => part.length === 1).flatMap(([row]) => row!);
  const several = known
    .filter((part) => part.length > 1 && part.length <= most && part.every((row) => row.length > 0))
    .sort((a, b) => a.length - b.length)[0];
  if (!several) return [common];
  return several.map((row) => [...row, ...common]);
}

function disjoin(parts: (Requirement[][] | undefined)[], most: number): Requirement[][] | undefined {
  const rows = parts.flatMap((part) => part ?? [[]]);
  return rows.length > most || rows.some((row) => row.length === 0) ? [[]] : rows;
}

function requirementOf(name: string, args: readonly Node[], negated: boolean): Requirement[] {
  if (name === 'in' && !negated) return memberOf(args);
  if (name === 'like' && !negated) return prefixOf(args);
  if (!Object.hasOwn(MIRRORED, name)) return [];
  const [left, right] = args as [Node, Node];
  const leftField = fieldOf(left);
  const field = leftField ?? fieldOf(right);
  const literal = leftField ? right : left;
  if (!field || literal.kind !== 'literal') return [];
  let operator = leftField ? name : MIRRORED[name]!;
  if (negated) operator = OPPOSITE[operator]!;
  const { value } = literal;
  if (operator === '=') return [{ kind: 'equal', ...field, values: [value] }];
  if (operator === '<>' || typeof value === 'boolean') return [];
  const bound = { value, inclusive: operator.endsWith('=') };
  return [
    {
      kind: 'range',
      ...field,
      low: operator.startsWith('>') ? bound : undefined,
      high: operator.startsWith('<') ? bound : undefined,
    },
  ];
}

function memberOf([value, list]: readonly Node[]): Requirement[] {
  const field = fieldOf(value!);
  if (!field || list!.kind !== 'array' || !list!.items.every((item) => item.kind === 'literal')) return [];
  const values = [...new Set(list!.items.map((item) => (item as { value: Scalar }).value))];
  return [{ kind: 'equal', ...field, values }];
}

/** `name LIKE 'Amber%'` means that the name lies between `Amber` and the next text that does not begin so. */
function prefixOf([value, pattern]: readonly Node[]): Requirement[] {
  const field = fieldOf(value!);
  if (!field || pattern!.kind !== 'literal' || typeof pattern!.value !== 'string') return [];
  const prefix = /^[^%_\\]*/.exec(pattern!.value)![0];
  if (prefix === pattern!.value) return [{ kind: 'equal', ...field, values: [prefix] }];
  const last = prefix.codePointAt(prefix.length - 1);
  if (last === undefined || last >= 0xd7ff) return [];
  const next = prefix.slice(0, -1) + String.fromCodePoint(last + 1);
  return [
    { kind: 'range', ...field, low: { value: prefix, inclusive: true }, high: { value: next, inclusive: false } },
  ];
}

function fieldOf(node: Node): { path: readonly string[]; meta: boolean } | undefined {
  if (node.kind === 'property') return { path: node.path, meta: false };
  if (node.kind !== 'call' || node.name !== 'meta') return undefined;
  const [name] = node.args;
  return name?.kind === 'literal' ? { path: [String(name.value)], meta: true } : undefined;
}

/** Ranges of one field and one kind of value become one range. */
function joinRanges(row: Requirement[]): Requirement[] {
  const joined: Requirement[] = [];
  for (const requirement of row) {
    const same =
      requirement.kind === 'range'
        ? joined.find(
            (other) => other.kind === 'range' && samePlace(other, requirement) && sameKind(other, requirement),
          )
        : undefined;
    if (same?.kind === 'range' && requirement.kind === 'range') {
      same.low = tighter(same.low, requirement.low, 1);
      same.high = tighter(same.high, requirement.high, -1);
    } else joined.push({ ...requirement });
  }
  return joined;
}

function samePlace(a: Requirement, b: Requirement): boolean {
  return a.meta === b.meta && a.path.length === b.path.length && a.path.every((name, index) => name === b.path[index]);
}

function sameKind(a: Requirement & { kind: 'range' }, b: Requirement & { kind: 'range' }): boolean {
  return typeof (a.low ?? a.high)!.value === typeof (b.low ?? b.high)!.value;
}

function tighter(a: Bound | undefined, b: Bound | undefined, direction: 1 | -1): Bound | undefined {
  if (!a || !b) return a ?? b;
  const difference = compareBounds(a.value, b.value) * direction;
  if (difference === 0) return a.inclusive ? b : a;
  return difference > 0 ? a : b;
}

/** Compares two bounds of the same kind. */
export function compareBounds(a: string | number, b: string | number): number {
  return typeof a === 'number' && typeof b === 'number' ? a - b : compareStrings(String(a), String(b));
}
