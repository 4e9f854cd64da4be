import { compareStrings } from '../json/order.js';
import type { Node } from './tree.js';

/** A plain value that fields are compared with. */
export type Scalar = string | number | boolean;

/** One end of a range. */
export interface Bound {
  value: string | number;
  inclusive: boolean;
}

/** A field of a document, or its bookkeeping by the names of `meta()`. */
export interface Field {
  path: readonly string[];
  meta: boolean;
}

/** What must hold of something of a document, such as a field, for a condition to be true. */
export type Requirement<Subject extends object = Field> = Subject &
  ({ kind: 'equal'; values: readonly Scalar[] } | { kind: 'range'; low: Bound | undefined; high: Bound | undefined });

/** Reads the two sides of a comparison. */
export interface Sides<Subject extends object> {
  /** What a node says about a document; undefined if it is no subject. */
  subjectOf(node: Node): Subject | undefined;
  /** The value of a node that is the same for every document. */
  constantOf(node: Node): Scalar | undefined;
}

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
  const read = (name: string, args: readonly Node[], negated: boolean) => findComparison(name, args, negated, FIELDS);
  return findAlternatives(node, read, maxAlternatives)?.map((row) => joinRanges(row, samePlace));
}

/**
 * As {@link findRequirements}, for whatever `read` finds in a call other than AND, OR, NOT and BETWEEN.
 *
 * @param read what must hold if the call is true, or, where `negated`, if it is false
 */
export function findAlternatives<Found>(
  node: Node,
  read: (name: string, args: readonly Node[], negated: boolean) => Found[],
  maxAlternatives: number,
): Found[][] | undefined {
  const alternatives = alternativesOf(node, false, maxAlternatives, read);
  return alternatives?.every((row) => row.length > 0) ? alternatives : undefined;
}

const FIELDS: Sides<Field> = {
  subjectOf: fieldOf,
  constantOf: (node) => (node.kind === 'literal' ? node.value : undefined),
};

/**
 * Finds requirements that say all that a condition says: it is true of a document exactly if all of them hold. So an index
 * that covers them decides, and documents need not be looked at.
 *
 * @returns undefined when the condition says more
 */
export function findExactRequirements(node: Node): Requirement[] | undefined {
  const row = exactRow(node);
  return row && joinRanges(row, samePlace);
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
  const row = findComparison(name, args, false, FIELDS);
  return row.length > 0 ? row : undefined;
}

type Read<Found> = (name: string, args: readonly Node[], negated: boolean) => Found[];

function alternativesOf<Found>(node: Node, negated: boolean, most: number, read: Read<Found>): Found[][] | undefined {
  if (node.kind !== 'call') return [[]];
  const { name, args } = node;
  if (name === 'not') return alternativesOf(args[0]!, !negated, most, read);
  if (name === 'and' || name === 'or') {
    const parts = args.map((arg) => alternativesOf(arg, negated, most, read));
    return (name === 'and') !== negated ? conjoin(parts, most) : disjoin(parts, most);
  }
  if (name === 'between') {
    const [value, low, high] = args as [Node, Node, Node];
    const below: Node = { kind: 'call', name: '<', args: [value, low] };
    const above: Node = { kind: 'call', name: '>', args: [value, high] };
    return alternativesOf({ kind: 'call', name: 'or', args: [below, above] }, !negated, most, read);
  }
  return [read(name, args, negated)];
}

/** Of the parts of an AND with several alternatives, the one with the fewest suffices; single ones are added to each. */
function conjoin<Found>(parts: (Found[][] | undefined)[], most: number): Found[][] {
  const known = parts.filter((part) => part !== undefined);
  const common = known.filter((part) => part.length === 1).flatMap(([row]) => row!);
  const several = known
    .filter((part) => part.length > 1 && part.length <= most && part.every((row) => row.length > 0))
    .sort((a, b) => a.length - b.length)[0];
  if (!several) return [common];
  return several.map((row) => [...row, ...common]);
}

function disjoin<Found>(parts: (Found[][] | undefined)[], most: number): Found[][] | undefined {
  const rows = parts.flatMap((part) => part ?? [[]]);
  return rows.length > most || rows.some((row) => row.length === 0) ? [[]] : rows;
}

/** What a comparison of a subject with a constant requires of the subject; nothing for other calls. */
export function findComparison<Subject extends object>(
  name: string,
  args: readonly Node[],
  negated: boolean,
  sides: Sides<Subject>,
): Requirement<Subject>[] {
  if (name === 'in' && !negated) return memberOf(args, sides);
  if (name === 'like' && !negated) return prefixOf(args, sides);
  if (!Object.hasOwn(MIRRORED, name)) return [];
  const [left, right] = args as [Node, Node];
  const leftSubject = sides.subjectOf(left);
  const subject = leftSubject ?? sides.subjectOf(right);
  const value = subject && sides.constantOf(leftSubject ? right : left);
  if (!subject || value === undefined) return [];
  let operator = leftSubject ? name : MIRRORED[name]!;
  if (negated) operator = OPPOSITE[operator]!;
  if (operator === '=') return [{ kind: 'equal', ...subject, values: [value] }];
  if (operator === '<>' || typeof value === 'boolean') return [];
  const bound = { value, inclusive: operator.endsWith('=') };
  return [
    {
      kind: 'range',
      ...subject,
      low: operator.startsWith('>') ? bound : undefined,
      high: operator.startsWith('<') ? bound : undefined,
    },
  ];
}

function memberOf<Subject extends object>(
  [value, list]: readonly Node[],
  { subjectOf, constantOf }: Sides<Subject>,
): Requirement<Subject>[] {
  const subject = subjectOf(value!);
  if (!subject || list!.kind !== 'array') return [];
  const values = list!.items.map(constantOf);
  return values.includes(undefined) ? [] : [{ kind: 'equal', ...subject, values: [...new Set(values as Scalar[])] }];
}

/** `name LIKE 'Amber%'` means that the name lies between `Amber` and the next text that does not begin so. */
function prefixOf<Subject extends object>(
  [value, like]: readonly Node[],
  { subjectOf, constantOf }: Sides<Subject>,
): Requirement<Subject>[] {
  const subject = subjectOf(value!);
  const pattern = constantOf(like!);
  if (!subject || typeof pattern !== 'string') return [];
  const prefix = /^[^%_\\]*/.exec(pattern)![0];
  if (prefix === pattern) return [{ kind: 'equal', ...subject, values: [prefix] }];
  const last = prefix.codePointAt(prefix.length - 1);
  if (last === undefined || last >= 0xd7ff) return [];
  const next = prefix.slice(0, -1) + String.fromCodePoint(last + 1);
  return [
    { kind: 'range', ...subject, low: { value: prefix, inclusive: true }, high: { value: next, inclusive: false } },
  ];
}

/** The field that a node reads. */
export function fieldOf(node: Node): Field | undefined {
  if (node.kind === 'property') return { path: node.path, meta: false };
  if (node.kind !== 'call' || node.name !== 'meta') return undefined;
  const [name] = node.args;
  return name?.kind === 'literal' ? { path: [String(name.value)], meta: true } : undefined;
}

/** Ranges of one subject and one kind of value become one range. What is neither stays as it is. */
export function joinRanges<Found extends object>(
  row: readonly Found[],
  sameSubject: (a: Found, b: Found) => boolean,
): Found[] {
  const joined: Found[] = [];
  for (const found of row) {
    const same = isRange(found)
      ? joined.find((other) => isRange(other) && sameSubject(other, found) && sameKind(other, found))
      : undefined;
    if (same && isRange(same) && isRange(found)) {
      same.low = tighter(same.low, found.low, 1);
      same.high = tighter(same.high, found.high, -1);
    } else joined.push({ ...found });
  }
  return joined;
}

interface Range {
  kind: 'range';
  low: Bound | undefined;
  high: Bound | undefined;
}

function isRange<Found extends object>(found: Found): found is Found & Range {
  return (found as { kind?: unknown }).kind === 'range';
}

function samePlace(a: Field, b: Field): boolean {
  return a.meta === b.meta && a.path.length === b.path.length && a.path.every((name, index) => name === b.path[index]);
}

function sameKind(a: Range, b: Range): boolean {
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
