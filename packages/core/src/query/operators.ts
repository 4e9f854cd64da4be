import { didYouMean, nearNames } from '../text/near-names.js';
import { QueryError, type Node } from './tree.js';

/** What an operator or a function takes and gives. */
export interface Operator {
  /** How it is called in CQL2 JSON; in text, letters may be of either case. */
  name: string;
  gives: 'boolean' | 'number' | 'string' | 'any';
  /** The fewest and the most arguments. */
  args: [number, number];
  /** What its arguments are. */
  takes: 'any' | 'boolean' | 'array' | 'temporal' | 'spatial' | 'text';
}

const INFIX = ['=', '<>', '<', '>', '<=', '>='].map((name) => operator(name, 'boolean', 2, 'any'));
const ARITHMETIC = ['+', '-', '*', '/', '%', 'div', '^'].map((name) => operator(name, 'number', 2, 'any'));
const ARRAY = ['a_equals', 'a_contains', 'a_containedBy', 'a_overlaps'].map((name) =>
  operator(name, 'boolean', 2, 'array'),
);
const SPATIAL = [
  's_contains',
  's_crosses',
  's_disjoint',
  's_equals',
  's_intersects',
  's_overlaps',
  's_touches',
  's_within',
].map((name) => operator(name, 'boolean', 2, 'spatial'));
const TEMPORAL = [
  't_after',
  't_before',
  't_contains',
  't_disjoint',
  't_during',
  't_equals',
  't_finishedBy',
  't_finishes',
  't_intersects',
  't_meets',
  't_metBy',
  't_overlappedBy',
  't_overlaps',
  't_startedBy',
  't_starts',
].map((name) => operator(name, 'boolean', 2, 'temporal'));

/** Every operator and function that conditions may use, by its name in small letters. */
export const OPERATORS: ReadonlyMap<string, Operator> = new Map(
  [
    operator('and', 'boolean', [1, Infinity], 'boolean'),
    operator('or', 'boolean', [1, Infinity], 'boolean'),
    operator('not', 'boolean', 1, 'boolean'),
    operator('isNull', 'boolean', 1, 'any'),
    operator('like', 'boolean', 2, 'text'),
    operator('between', 'boolean', 3, 'any'),
    operator('in', 'boolean', 2, 'any'),
    ...INFIX,
    ...ARITHMETIC,
    ...ARRAY,
    ...SPATIAL,
    ...TEMPORAL,
    operator('casei', 'string', 1, 'text'),
    operator('accenti', 'string', 1, 'text'),
    operator('lower', 'string', 1, 'text'),
    operator('upper', 'string', 1, 'text'),
    operator('trim', 'string', 1, 'text'),
    operator('concat', 'string', [1, 20], 'text'),
    operator('substring', 'string', [2, 3], 'any'),
    operator('part', 'string', 3, 'any'),
    operator('text', 'string', 1, 'any'),
    operator('number', 'number', 1, 'any'),
    operator('length', 'number', 1, 'text'),
    operator('size', 'number', 1, 'any'),
    operator('abs', 'number', 1, 'any'),
    operator('round', 'number', [1, 2], 'any'),
    operator('floor', 'number', 1, 'any'),
    operator('ceil', 'number', 1, 'any'),
    operator('least', 'number', [1, 20], 'any'),
    operator('greatest', 'number', [1, 20], 'any'),
    operator('type', 'string', 1, 'any'),
    operator('meta', 'any', 1, 'any'),
    operator('claim', 'any', 1, 'any'),
    operator('was', 'any', 1, 'any'),
  ].map((entry) => [entry.name.toLowerCase(), entry]),
);

function operator(
  name: string,
  gives: Operator['gives'],
  args: number | [number, number],
  takes: Operator['takes'],
): Operator {
  return { name, gives, args: typeof args === 'number' ? [args, args] : args, takes };
}

/** Whether a node is true, false or unknown, and so can be a condition. */
export function isCondition(node: Node): boolean {
  if (node.kind === 'literal') return typeof node.value === 'boolean';
  return node.kind === 'call' && ['boolean', 'any'].includes(OPERATORS.get(node.name.toLowerCase())?.gives ?? '');
}

/**
 * Finds an operator or a function by its name.
 *
 * @throws {QueryError} with similar names, if it does not exist
 */
export function findOperator(name: string, position?: number, pointer?: string): Operator {
  const operator = OPERATORS.get(name.toLowerCase());
  if (operator) return operator;
  const near = nearNames(
    name,
    [...OPERATORS.values()].map((entry) => entry.name),
  );
  throw new QueryError(`There is no function "${name}".${didYouMean(near)}`, position, pointer, near);
}
