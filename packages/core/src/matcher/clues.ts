import type { Document } from '../document/document.js';
import { canonicalText } from '../json/canonical-text.js';
import { joinName } from '../query/names.js';
import type { JsonValue } from '../json/json.js';
import {
  fieldOf,
  findAlternatives,
  findComparison,
  joinRanges,
  type Requirement,
  type Scalar,
} from '../query/conditions.js';
import { compileValue, patternOf } from '../query/evaluate.js';
import { metaValue, valueOfField } from '../query/fields.js';
import { formatText } from '../query/format-text.js';
import { boxAround, polygonOfBox } from '../query/spatial.js';
import { parseDate, parseTimestamp } from '../query/time.js';
import type { Node } from '../query/tree.js';
import { WorkLimitError, WorkMeter } from '../query/work.js';
import type { Box } from './areas.js';

/** Computing the value of an expression for the matcher takes no more steps than this on one document. */
const EXPRESSION_STEPS = 50_000;

/** An expression with more parts than this is no subject. */
const EXPRESSION_NODES = 30;

/** Reading an expression took too many steps: any condition on it may be true. */
export const TOO_MUCH = Symbol('too much work');

/** Something of a document that conditions require something of: a field, or an expression. */
export interface Subject {
  /** The same for the same subject. */
  key: string;
  /** As it is written in conditions. */
  name: string;
  /** The document's id, which is unique. */
  isId: boolean;
  /** Writes a value as it stands in conditions. */
  show(value: Scalar): string;
  read(document: Document): JsonValue | undefined | typeof TOO_MUCH;
}

/** What must hold of a subject for a condition to be true, in a form that the matcher can look up. */
export type Clue =
  | Requirement<Subject>
  /** A list with one of these items, as canonical text. */
  | (Subject & { kind: 'item'; values: readonly string[] })
  /** A text that contains another one. */
  | (Subject & { kind: 'part'; part: string })
  /** A geometry that touches a box. */
  | (Subject & { kind: 'area'; box: Box })
  | (Subject & { kind: 'nothing' });

const MAX_ALTERNATIVES = 200;

/** Finds clues to a condition: alternatives, of which at least one holds if it is true; undefined if there are none. */
export function findClues(node: Node): Clue[][] | undefined {
  const alternatives = findAlternatives(node, readCall, MAX_ALTERNATIVES);
  return alternatives?.map((row) => joinRanges(row, (a, b) => a.key === b.key));
}

function readCall(name: string, args: readonly Node[], negated: boolean): Clue[] {
  const lower = name.toLowerCase();
  const compared = args.some(isMoment)
    ? findComparison<Subject>(name, args, negated, MOMENTS).map(includeEnds)
    : findComparison<Subject>(name, args, negated, VALUES);
  // A part of a text is found by hash, unlike a range of texts.
  if (lower === 'like' && !negated) return [...compared, ...findParts(args)];
  if (compared.length > 0 || negated) return compared;
  if (lower === 'isnull') return asClue(subjectOf(args[0]!), { kind: 'nothing' as const });
  if (lower.startsWith('a_')) return findItems(lower, args);
  if (lower.startsWith('s_') && lower !== 's_disjoint') return findArea(args);
  return [];
}

function asClue<Found extends object>(subject: Subject | undefined, found: Found | undefined): (Subject & Found)[] {
  return subject && found ? [{ ...subject, ...found }] : [];
}

function isMoment({ kind }: Node): boolean {
  return kind === 'date' || kind === 'timestamp';
}

const VALUES = { subjectOf, constantOf };

/** Times as numbers. A double drops the last digits of a time in picoseconds; see {@link includeEnds}. */
const MOMENTS = {
  subjectOf: (node: Node): Subject | undefined => {
    const subject = isMoment(node) ? undefined : subjectOf(node);
    return (
      subject && {
        ...subject,
        key: `t${subject.key}`,
        isId: false,
        show: (value) => `TIMESTAMP('${new Date(Number(value) / PICOSECONDS_PER_MS).toISOString()}')`,
        read: (document) => readTime(subject, document),
      }
    );
  },
  constantOf: (node: Node): Scalar | undefined =>
    node.kind === 'date' || node.kind === 'timestamp' ? Number(node.instant) : undefined,
};

const PICOSECONDS_PER_MS = 1e9;

/** Two times may differ in digits that a double drops, so a range of doubles includes its ends. */
function includeEnds(clue: Requirement<Subject>): Requirement<Subject> {
  if (clue.kind !== 'range') return clue;
  const [low, high] = [clue.low, clue.high].map((bound) => bound && { ...bound, inclusive: true });
  return { ...clue, low, high };
}

function readTime(subject: Subject, document: Document): JsonValue | undefined | typeof TOO_MUCH {
  const text = subject.read(document);
  if (typeof text !== 'string') return text === TOO_MUCH ? text : undefined;
  const instant = parseTimestamp(text) ?? parseDate(text);
  return instant === undefined ? undefined : Number(instant);
}

/** The literal texts between the wildcards of a pattern. */
function findParts([value, like]: readonly Node[]): Clue[] {
  const pattern = patternOf(like!);
  const subject = pattern === undefined ? undefined : subjectOf(value!);
  if (!subject) return [];
  const parts = [...pattern!.matchAll(/(?:[^%_\\]|\\[^]|\\$)+/g)].map(([text]) => text.replace(/\\([^])/g, '$1'));
  return parts.map((part) => ({ ...subject, kind: 'part', part }));
}

/** The items that a list must have. */
function findItems(name: string, args: readonly Node[]): Clue[] {
  const constants = args.map(listOf);
  const at = constants.findIndex((list) => list !== undefined);
  if (at === -1) return [];
  const subject = subjectOf(args[1 - at]!);
  const values = [...new Set(constants[at]!.map(canonicalText))];
  if (name === 'a_overlaps') return asClue(subject, { kind: 'item' as const, values });
  const hasAll = name === 'a_equals' || (name === 'a_contains' ? at === 1 : at === 0);
  return hasAll ? values.flatMap((value) => asClue(subject, { kind: 'item' as const, values: [value] })) : [];
}

function listOf(node: Node): JsonValue[] | undefined {
  if (node.kind !== 'array' || !isConstant(node)) return undefined;
  const list = compileValue(node)(NOTHING);
  return Array.isArray(list) ? list : undefined;
}

function findArea(args: readonly Node[]): Clue[] {
  const boxes = args.map(boxOf);
  const at = boxes.findIndex((box) => box !== undefined);
  return at === -1 ? [] : asClue(subjectOf(args[1 - at]!), { kind: 'area' as const, box: boxes[at]! });
}

function boxOf(node: Node): Box | undefined {
  if (node.kind === 'geometry') return boxAround(node.geometry);
  return node.kind === 'bbox' ? boxAround(polygonOfBox(node.box)) : undefined;
}

const NOTHING = { document: { id: '', version: 0, created: '', updated: '', data: {} } };

/** The value of a node that depends on no document. */
function constantOf(node: Node): Scalar | undefined {
  if (node.kind === 'literal') return node.value;
  if (node.kind !== 'call' || !isConstant(node)) return undefined;
  const value = compileValue(node)(NOTHING);
  return typeof value === 'object' ? undefined : value;
}

function isConstant(node: Node): boolean {
  if (node.kind === 'call') return !SOURCES.has(node.name.toLowerCase()) && node.args.every(isConstant);
  return node.kind === 'array' ? node.items.every(isConstant) : node.kind === 'literal' || node.kind === 'object';
}

/** Functions whose value comes from elsewhere than their arguments. */
const SOURCES: ReadonlySet<string> = new Set(['meta', 'claim', 'was']);

function subjectOf(node: Node): Subject | undefined {
  const field = node.kind === 'property' && node.without ? undefined : fieldOf(node);
  if (!field) return expressionOf(node);
  const { path, meta } = field;
  const name = meta ? `meta('${path[0]}')` : joinName(path);
  const read = meta
    ? (document: Document) => metaValue(document, path[0]!)
    : (document: Document) => valueOfField(document, path);
  return { key: `f${name}`, name, isId: meta && path[0] === 'id', show: showScalar, read };
}

/** A node whose value depends on the document alone, as it is evaluated. */
function expressionOf(node: Node): Subject | undefined {
  if (!(node.kind === 'call' || node.kind === 'property') || isConstant(node)) return undefined;
  if (countParts(node) > EXPRESSION_NODES) return undefined;
  const evaluate = compileValue(node);
  return {
    key: `e${JSON.stringify(node, (name, value: unknown) => (name === 'at' ? undefined : value))}`,
    name: formatText(node),
    isId: false,
    show: showScalar,
    read: (document) => {
      try {
        return evaluate({ document, work: new WorkMeter(EXPRESSION_STEPS) });
      } catch (error) {
        if (error instanceof WorkLimitError) return TOO_MUCH;
        throw error;
      }
    },
  };
}

/** How many parts an expression of a document has; more than allowed if it depends on something else. */
function countParts(node: Node): number {
  switch (node.kind) {
    case 'literal':
    case 'property':
      return 1;
    case 'array':
      return node.items.reduce((sum, item) => sum + countParts(item), 1);
    case 'call': {
      const name = node.name.toLowerCase();
      if (name === 'meta') return 1;
      if (name === 'claim' || name === 'was') return Infinity;
      return node.args.reduce((sum, arg) => sum + countParts(arg), 1);
    }
    default:
      return Infinity;
  }
}

const MOST_ITEMS_SHOWN = 5;

/** A clue as a condition. */
export function describeClue(clue: Clue): string {
  const { name, show } = clue;
  switch (clue.kind) {
    case 'equal': {
      const { values } = clue;
      return values.length === 1 ? `${name} = ${show(values[0]!)}` : `${name} IN (${values.length} values)`;
    }
    case 'range': {
      const { low, high } = clue;
      const parts = [
        low && `${name} ${low.inclusive ? '>=' : '>'} ${show(low.value)}`,
        high && `${name} ${high.inclusive ? '<=' : '<'} ${show(high.value)}`,
      ];
      return parts.filter(Boolean).join(' AND ');
    }
    case 'item':
      return clue.values.length > MOST_ITEMS_SHOWN
        ? `${name} has one of ${clue.values.length} items`
        : `A_OVERLAPS(${name}, [${clue.values.map(showItem).join(', ')}])`;
    case 'part':
      return `${name} LIKE ${showScalar(`%${clue.part.replace(/[%_\\]/g, '\\$&')}%`)}`;
    case 'area':
      return `S_INTERSECTS(${name}, BBOX(${clue.box.join(', ')}))`;
    case 'nothing':
      return `${name} IS NULL`;
  }
}

/** An item of a list, from its canonical text. */
function showItem(text: string): string {
  const value = JSON.parse(text) as JsonValue;
  return typeof value === 'object' ? text : showScalar(value);
}

function showScalar(value: Scalar): string {
  return typeof value === 'string' ? `'${value.replaceAll("'", "''")}'` : String(value);
}
