import type { Document } from '../document.js';
import { isObject, type JsonValue } from '../json.js';
import { compareStrings } from '../order.js';
import { findClaim, type Claims } from '../policy/claims.js';
import { valueWithout } from '../policy/conceal.js';
import { valueOfField, META_NAMES, metaValue } from './fields.js';
import { compileLike } from './like.js';
import { asGeometry, boxAround, polygonOfBox, spatialRelations } from './spatial.js';
import { canonicalText } from '../canonical-text.js';
import { caseFolding } from './fold-case.js';
import { parseDate, parseSpan, parseTimestamp, RELATIONS, spanOfDate, type Instant, type Span } from './time.js';
import { QueryError, type CallNode, type Geometry, type Node } from './tree.js';
import type { WorkMeter } from './work.js';

/** What a condition is judged on. */
export interface Scope {
  document: Document;
  /** The claims of the one who asks. */
  claims?: Claims;
  /** The document as it was before a write. */
  before?: Document;
  /** Counts the work; without it, none is counted. */
  work?: WorkMeter;
}

/** The truth of a condition: true, false, or undefined for unknown. Only true matches. */
export type Truth = boolean | undefined;

/** A condition made ready to be judged. */
export type Predicate = (scope: Scope) => Truth;

type Value = (scope: Scope) => JsonValue | undefined;

/**
 * Makes a condition ready to be judged, with three-valued logic as in SQL: a comparison with a missing field, with
 * null or with a value of another type is unknown, and nothing is converted.
 *
 * @throws {QueryError} when a part cannot be what its place asks for
 */
export function compile(node: Node): Predicate {
  const value = compileValue(node);
  return (scope) => {
    const result = value(scope);
    return typeof result === 'boolean' ? result : undefined;
  };
}

/** The value of a part of a condition; undefined where it is missing or unknown. */
export function evaluate(node: Node, scope: Scope): JsonValue | undefined {
  return compileValue(node)(scope);
}

/**
 * Tells whether a condition can be judged here, by what is known of a document alone: claims and values before a write are
 * known to the service only; spatial relations and case folding only where they are loaded.
 */
export function isDecidable(node: Node): boolean {
  if (node.kind === 'array') return node.items.every(isDecidable);
  if (node.kind !== 'call') return true;
  const name = node.name.toLowerCase();
  if (name === 'claim' || name === 'was') return false;
  if (name.startsWith('s_') && !spatialRelations.relate) return false;
  if (name === 'casei' && !caseFolding.fold) return false;
  return node.args.every(isDecidable);
}

function compileValue(node: Node): Value {
  switch (node.kind) {
    case 'literal': {
      const { value } = node;
      return () => value;
    }
    case 'property': {
      const { path, without } = node;
      if (without) return ({ document }) => valueWithout(valueOfField(document, path), without);
      if (path.length > 1) return ({ document }) => valueOfField(document, path);
      const [name] = path as [string];
      return ({ document: { data } }) => (Object.hasOwn(data, name) ? data[name] : undefined);
    }
    case 'array': {
      const items = node.items.map(compileValue);
      return (scope) => {
        const values = items.map((item) => item(scope));
        return values.includes(undefined) ? undefined : (values as JsonValue[]);
      };
    }
    case 'missing':
      return () => undefined;
    case 'object':
      return () => node.value;
    case 'geometry':
      return () => node.geometry as unknown as JsonValue;
    case 'bbox': {
      const polygon = polygonOfBox(node.box) as unknown as JsonValue;
      return () => polygon;
    }
    case 'date':
    case 'timestamp':
      return () => node.text;
    case 'interval':
      throw new QueryError('An INTERVAL can only be compared by the T_ operators.', node.at);
    case 'call':
      return compileCall(node);
  }
}

function compileCall(node: CallNode): Value {
  const { name, args } = node;
  const lower = name.toLowerCase();
  if (lower === 'and' || lower === 'or') return junction(args.map(compile), lower === 'or');
  if (lower === 'not') {
    const inner = compile(args[0]!);
    return (scope) => negate(inner(scope));
  }
  if (Object.hasOwn(RELATIONS, lower)) return temporal(lower, args);
  if (lower.startsWith('s_')) return spatial(lower, args);
  if (Object.hasOwn(COMPARE, lower)) return comparison(lower, args);
  if (lower === 'between') return between(args);
  if (lower === 'in') return membership(args);
  if (lower === 'like') return like(node);
  if (lower === 'meta' || lower === 'claim' || lower === 'was') return reserved(node);
  const values = args.map(compileValue);
  if (lower === 'isnull') return (scope) => (values[0]!(scope) ?? null) === null;
  const apply = FUNCTIONS[lower];
  if (!apply) throw new QueryError(`"${name}" cannot stand here.`, node.at);
  const takesMissing = lower === 'type';
  const weight = WEIGHTS[lower] ?? 1;
  return (scope) => {
    const given = values.map((value) => value(scope));
    if (!takesMissing && given.some((value) => value === undefined || value === null)) return undefined;
    if (scope.work) for (const value of given) scope.work.add(1 + (weight === 0 ? 0 : weight * lengthOf(value)));
    return apply(...(given as JsonValue[]));
  };
}

/** Steps for each character or item that a function looks at, where it is not one. */
const WEIGHTS: Readonly<Record<string, number>> = {
  accenti: 12,
  casei: 4,
  lower: 2,
  upper: 2,
  trim: 2,
  part: 2,
  a_equals: 20,
  a_contains: 20,
  a_containedby: 20,
  a_overlaps: 20,
  text: 2,
  size: 0,
  type: 0,
};

/** How many characters of a text or how many values inside a list or object there are; 0 for other values. */
function lengthOf(value: JsonValue | undefined): number {
  if (typeof value === 'string') return value.length;
  if (typeof value !== 'object' || value === null) return 0;
  let length = 0;
  if (Array.isArray(value)) for (const inner of value) length += 1 + lengthOf(inner);
  else for (const name of Object.keys(value)) length += 1 + name.length + lengthOf(value[name]);
  return length;
}

function junction(conditions: Predicate[], decides: boolean): Value {
  return (scope) => {
    let result: Truth = !decides;
    for (const condition of conditions) {
      const truth = condition(scope);
      if (truth === decides) return decides;
      if (truth === undefined) result = undefined;
    }
    return result;
  };
}

function negate(truth: Truth): Truth {
  return truth === undefined ? undefined : !truth;
}

/** Numbers, texts and truth values can be compared, each with its own kind; everything else is unknown. */
function compareScalars(a: JsonValue | undefined, b: JsonValue | undefined): number | undefined {
  if (typeof a === 'number' && typeof b === 'number') return a - b;
  if (typeof a === 'string' && typeof b === 'string') return a === b ? 0 : compareStrings(a, b);
  if (typeof a === 'boolean' && typeof b === 'boolean') return Number(a) - Number(b);
  return undefined;
}

const COMPARE: Readonly<Record<string, (difference: number) => boolean>> = {
  '=': (difference) => difference === 0,
  '<>': (difference) => difference !== 0,
  '<': (difference) => difference < 0,
  '>': (difference) => difference > 0,
  '<=': (difference) => difference <= 0,
  '>=': (difference) => difference >= 0,
};

type Difference = (scope: Scope) => number | undefined;

/** With a DATE or a TIMESTAMP on either side, texts are compared as moments; otherwise values as what they are. */
function difference(a: Node, b: Node): Difference {
  const instant = [a, b].find((node) => node.kind === 'date' || node.kind === 'timestamp');
  if (instant) {
    const [left, right] = [a, b].map((node) => momentOf(node, instant.kind as 'date' | 'timestamp')) as [
      Moment,
      Moment,
    ];
    return (scope) => {
      const [from, to] = [left(scope), right(scope)];
      if (from === undefined || to === undefined) return undefined;
      return from === to ? 0 : from < to ? -1 : 1;
    };
  }
  const [left, right] = [compileValue(a), compileValue(b)];
  return (scope) => {
    const [from, to] = [left(scope), right(scope)];
    countComparison(scope, from, to);
    return compareScalars(from, to);
  };
}

/** Comparing long texts is work; a step compares several characters. */
function countComparison({ work }: Scope, a: JsonValue | undefined, b: JsonValue | undefined): void {
  work?.add(typeof a === 'string' && typeof b === 'string' ? 1 + (Math.min(a.length, b.length) >> 2) : 1);
}

type Moment = (scope: Scope) => Instant | undefined;

function momentOf(node: Node, kind: 'date' | 'timestamp'): Moment {
  if (node.kind === 'date' || node.kind === 'timestamp') {
    return () => (node.kind === kind ? node.instant : undefined);
  }
  const value = compileValue(node);
  const parse = kind === 'date' ? parseDate : parseTimestamp;
  return (scope) => {
    const text = value(scope);
    return typeof text === 'string' ? parse(text) : undefined;
  };
}

function comparison(name: string, [a, b]: Node[]): Value {
  const decide = COMPARE[name]!;
  const compare = difference(a!, b!);
  return (scope) => {
    const result = compare(scope);
    return result === undefined ? undefined : decide(result);
  };
}

function between([value, low, high]: Node[]): Value {
  const [fromLow, toHigh] = [difference(value!, low!), difference(value!, high!)];
  return (scope) => {
    const [above, below] = [fromLow(scope), toHigh(scope)];
    const [isAbove, isBelow] = [
      above === undefined ? undefined : above >= 0,
      below === undefined ? undefined : below <= 0,
    ];
    if (isAbove === false || isBelow === false) return false;
    return isAbove === undefined || isBelow === undefined ? undefined : true;
  };
}

/** `a IN (b, c)` is `a = b OR a = c`. Lists of plain values are looked up in a set, however long they are. */
function membership([value, list]: Node[]): Value {
  const items = list!.kind === 'array' ? list!.items : [list!];
  if (!items.every(({ kind }) => kind === 'literal')) {
    return junction(
      items.map((item) => comparison('=', [value!, item]) as Predicate),
      true,
    );
  }
  const values = new Set(items.map((item) => (item as { value: JsonValue }).value));
  const types = new Set([...values].map((item) => typeof item));
  const read = compileValue(value!);
  return (scope) => {
    const found = read(scope);
    scope.work?.add(typeof found === 'string' ? 1 + (found.length >> 2) : 1);
    if (values.has(found as JsonValue)) return true;
    // Unknown for a value of another kind than all of the list, as each comparison would be.
    return types.size === 1 && types.has(typeof found) ? false : undefined;
  };
}

function like({ args, at }: CallNode): Value {
  const value = compileValue(args[0]!);
  const pattern = patternOf(args[1]!);
  if (pattern === undefined)
    throw new QueryError('The pattern of LIKE must be a text in single quotes.', args[1]!.at ?? at);
  const test = compileLike(pattern);
  return (scope) => {
    const text = value(scope);
    return typeof text === 'string' ? test(text, scope.work) : undefined;
  };
}

/** The text of a pattern, with CASEI and ACCENTI applied to it. */
function patternOf(node: Node): string | undefined {
  if (node.kind === 'literal') return typeof node.value === 'string' ? node.value : undefined;
  if (node.kind !== 'call') return undefined;
  const fold = { casei: foldCase, accenti: foldAccents }[node.name.toLowerCase()];
  const inner = fold && patternOf(node.args[0]!);
  return inner === undefined ? undefined : fold!(inner);
}

function reserved({ name, args, at }: CallNode): Value {
  const [arg] = args;
  const isName = arg?.kind === 'literal' && typeof arg.value === 'string';
  if (name === 'was') {
    // was(crew) and was('crew') mean the same field before the write.
    const path = arg?.kind === 'property' ? arg.path : isName ? [...String(arg.value).split('.')] : undefined;
    if (!path) throw new QueryError("was() takes the name of a field: was('crew').", at);
    return ({ before }) => (before ? valueOfField(before, path) : undefined);
  }
  if (!isName) throw new QueryError(`${name}() takes a name in single quotes.`, at);
  const key = String(arg.value);
  if (name === 'claim') return ({ claims }) => claims && findClaim(claims, key);
  if (!META_NAMES.has(key))
    throw new QueryError(`meta() knows 'id', 'version', 'created' and 'updated', not '${key}'.`, arg.at ?? at);
  return ({ document }) => metaValue(document, key);
}

function temporal(name: string, [a, b]: Node[]): Value {
  const relation = RELATIONS[name]!;
  const [left, right] = [spanOf(a!), spanOf(b!)];
  return (scope) => {
    const [from, to] = [left(scope), right(scope)];
    return from === undefined || to === undefined ? undefined : relation(from, to);
  };
}

function spanOf(node: Node): (scope: Scope) => Span | undefined {
  if (node.kind === 'timestamp') return () => ({ from: node.instant, to: node.instant });
  if (node.kind === 'date') {
    const span = spanOfDate(node.instant);
    return () => span;
  }
  if (node.kind === 'interval') {
    const open: Span = { from: Number.NEGATIVE_INFINITY, to: Number.POSITIVE_INFINITY };
    const from = node.from ? spanOf(node.from) : () => open;
    const to = node.to ? spanOf(node.to) : () => open;
    return (scope) => {
      const [begin, end] = [from(scope), to(scope)];
      return begin && end && begin.from <= end.to ? { from: begin.from, to: end.to } : undefined;
    };
  }
  const value = compileValue(node);
  return (scope) => {
    const text = value(scope);
    return typeof text === 'string' ? parseSpan(text) : undefined;
  };
}

function spatial(name: string, args: Node[]): Value {
  const [left, right] = args.map(geometryOf) as [Shape, Shape];
  return (scope) => {
    const [a, b] = [left(scope), right(scope)];
    if (!a || !b) return undefined;
    scope.work?.add(1 + a.positions + b.positions);
    // Boxes that do not touch settle all relations, and cost little.
    if (!boxesTouch(a.box, b.box)) return name === 's_disjoint';
    return spatialRelations.relate?.(name, a.geometry, b.geometry, scope.work);
  };
}

type Shape = (scope: Scope) => { geometry: Geometry; box: number[]; positions: number } | undefined;

function geometryOf(node: Node): Shape {
  if (node.kind === 'geometry' || node.kind === 'bbox') {
    const geometry = node.kind === 'bbox' ? polygonOfBox(node.box) : node.geometry;
    const fixed = { geometry, box: boxAround(geometry), positions: 0 };
    return () => fixed;
  }
  const value = compileValue(node);
  return (scope) => {
    const found = value(scope);
    if (!isObject(found)) return undefined;
    const positions = lengthOf(found.coordinates ?? found.geometries);
    scope.work?.add(4 * positions);
    const geometry = asGeometry(found);
    return geometry && { geometry, box: boxAround(geometry), positions };
  };
}

function boxesTouch(a: number[], b: number[]): boolean {
  return a[0]! <= b[2]! && a[2]! >= b[0]! && a[1]! <= b[3]! && a[3]! >= b[1]!;
}

/** Without regard to case: full case folding (Unicode, CaseFolding.txt). */
function foldCase(text: string): string {
  return caseFolding.fold?.(text) ?? text.toLowerCase();
}

/** Without accents: decomposed (UAX #15), the combining marks left out, and composed again. */
function foldAccents(text: string): string {
  return text
    .normalize('NFD')
    .replace(/\p{Mn}/gu, '')
    .normalize('NFC');
}

const onText = (apply: (text: string) => JsonValue) => (value: JsonValue) =>
  typeof value === 'string' ? apply(value) : undefined;
const onNumbers =
  (apply: (...numbers: number[]) => number) =>
  (...values: JsonValue[]) => {
    if (!values.every((value) => typeof value === 'number')) return undefined;
    const result = apply(...(values as number[]));
    return Number.isFinite(result) ? result : undefined;
  };
/** Lists are compared as sets: neither the order of their items nor repeated items count. */
const onSets = (apply: (a: ReadonlySet<string>, b: ReadonlySet<string>) => boolean) => (a: JsonValue, b: JsonValue) =>
  Array.isArray(a) && Array.isArray(b)
    ? apply(new Set(a.map(canonicalText)), new Set(b.map(canonicalText)))
    : undefined;
const isSubset = (a: ReadonlySet<string>, b: ReadonlySet<string>) => [...a].every((item) => b.has(item));

/** The ordinary functions. None is called with a missing value or null, `type` apart. */
const FUNCTIONS: Readonly<Record<string, (...args: JsonValue[]) => JsonValue | undefined>> = {
  '+': onNumbers((a, b) => a! + b!),
  '-': onNumbers((a, b) => a! - b!),
  '*': onNumbers((a, b) => a! * b!),
  '/': onNumbers((a, b) => a! / b!),
  '%': onNumbers((a, b) => a! % b!),
  div: onNumbers((a, b) => Math.trunc(a! / b!)),
  '^': onNumbers((a, b) => a! ** b!),
  abs: onNumbers((a) => Math.abs(a!)),
  floor: onNumbers((a) => Math.floor(a!)),
  ceil: onNumbers((a) => Math.ceil(a!)),
  round: onNumbers((a, digits = 0) => round(a!, Math.trunc(digits))),
  least: onNumbers((...numbers) => Math.min(...numbers)),
  greatest: onNumbers((...numbers) => Math.max(...numbers)),
  casei: onText(foldCase),
  accenti: onText(foldAccents),
  lower: onText((text) => text.toLowerCase()),
  upper: onText((text) => text.toUpperCase()),
  trim: onText((text) => text.trim()),
  length: onText(countCharacters),
  concat: (...texts) => (texts.every((text) => typeof text === 'string') ? texts.join('') : undefined),
  substring: (text, from, length) => {
    if (typeof text !== 'string' || typeof from !== 'number' || (length !== undefined && typeof length !== 'number'))
      return undefined;
    const start = Math.max(0, Math.trunc(from) - 1);
    const end = length === undefined ? Infinity : Math.max(0, Math.trunc(from) - 1 + Math.trunc(length));
    return substring(text, start, end);
  },
  part: (text, by, place) =>
    typeof text === 'string' && typeof by === 'string' && typeof place === 'number'
      ? partOf(text, by, Math.trunc(place))
      : undefined,
  text: (value) => (typeof value === 'string' ? value : JSON.stringify(value)),
  number: (value) => onNumbers((a) => a!)(typeof value === 'string' ? readNumber(value) : value),
  size: (value) => (Array.isArray(value) ? value.length : isObject(value) ? Object.keys(value).length : undefined),
  type: (value) =>
    value === undefined ? 'missing' : value === null ? 'null' : Array.isArray(value) ? 'array' : typeof value,
  a_equals: onSets((a, b) => a.size === b.size && isSubset(a, b)),
  a_contains: onSets((a, b) => isSubset(b, a)),
  a_containedby: onSets(isSubset),
  a_overlaps: onSets((a, b) => [...a].some((item) => b.has(item))),
};

function round(value: number, digits: number): number {
  const factor = 10 ** Math.abs(digits);
  if (digits < 0) return Number.isFinite(factor) ? Math.round(value / factor) * factor : 0;
  const scaled = value * factor;
  // So large a number has no digits there.
  return Number.isFinite(scaled) ? Math.round(scaled) / factor : value;
}

/** A decimal number as people write it; NaN for anything else, such as hexadecimal digits. */
function readNumber(text: string): number {
  const trimmed = text.trim();
  return /^[+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?$/.test(trimmed) ? Number(trimmed) : Number.NaN;
}

/** How many characters (code points) a text has. */
function countCharacters(text: string): number {
  let count = 0;
  for (let at = 0; at < text.length; at += widthAt(text, at)) count++;
  return count;
}

/** The characters (code points) of a text from `start` on, counted from 0, up to `end`. */
function substring(text: string, start: number, end: number): string {
  let at = 0;
  let count = 0;
  for (; count < start && at < text.length; count++) at += widthAt(text, at);
  const from = at;
  for (; count < end && at < text.length; count++) at += widthAt(text, at);
  return text.slice(from, at);
}

/** How many UTF-16 code units the character at a place takes. */
function widthAt(text: string, at: number): number {
  return text.codePointAt(at)! > 0xffff ? 2 : 1;
}

/** The part of a text between separators: the first is 1 (0 is taken for it), the last is -1. */
function partOf(text: string, by: string, place: number): string | undefined {
  if (by === '') return text.at(place > 0 ? place - 1 : place);
  let wanted = place > 0 ? place - 1 : place;
  if (wanted < 0) {
    let parts = 1;
    for (let at = text.indexOf(by); at !== -1; at = text.indexOf(by, at + by.length)) parts++;
    wanted += parts;
    if (wanted < 0) return undefined;
  }
  let start = 0;
  for (let left = wanted; left > 0; left--) {
    const at = text.indexOf(by, start);
    if (at === -1) return undefined;
    start = at + by.length;
  }
  const end = text.indexOf(by, start);
  return end === -1 ? text.slice(start) : text.slice(start, end);
}
