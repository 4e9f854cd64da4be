import type { Document } from '../document/document.js';
import { isObject, type JsonValue } from '../json/json.js';
import { compareStrings } from '../json/order.js';
import { findClaim, type Claims } from './claims.js';
import { valueWithout } from '../document/field-paths.js';
import { valueOfField, META_NAMES, metaValue } from './fields.js';
import { compileLike } from './like.js';
import { asGeometry, boxAround, polygonOfBox, spatialRelations } from './spatial.js';
import { caseFolding } from './fold-case.js';
import { foldAccents, foldCase, FUNCTIONS, lengthOf, WEIGHTS } from './functions.js';
import { parseDate, parseSpan, parseTimestamp, RELATIONS, spanOfDate, type Instant, type Span } from './time.js';
import { QueryError, type CallNode, type Geometry, type Node } from './tree.js';
import type { WorkMeter } from './work.js';

/** What a condition is evaluated on. */
export interface Scope {
  document: Document;
  /** The claims of the caller. */
  claims?: Claims;
  /** The document as it was before a write. */
  before?: Document;
  /** Counts the work; without it, none is counted. */
  work?: WorkMeter;
}

/** The truth of a condition: true, false, or undefined for unknown. Only true matches. */
export type Truth = boolean | undefined;

/** A compiled condition. */
export type Predicate = (scope: Scope) => Truth;

/** A compiled part of a condition. */
export type Value = (scope: Scope) => JsonValue | undefined;

/**
 * Compiles a condition, with three-valued logic as in SQL: a comparison with a missing field, with null or with a value
 * of another type is unknown, and nothing is converted.
 *
 * @throws {QueryError} for a part of the wrong kind
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
 * Whether a condition can be evaluated here, from a document alone: claims and values before a write are known only to
 * the service; spatial relations and case folding only where they are enabled.
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

/** Compiles a part of a condition that has a value; undefined where it is missing or unknown. */
export function compileValue(node: Node): Value {
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
      throw new QueryError('An INTERVAL can only be compared with T_ operators.', node.at);
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

/** With a DATE or a TIMESTAMP on either side, strings are compared as times; otherwise values by their type. */
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
    throw new QueryError('The pattern of LIKE must be a string in single quotes.', args[1]!.at ?? at);
  const test = compileLike(pattern);
  return (scope) => {
    const text = value(scope);
    return typeof text === 'string' ? test(text, scope.work) : undefined;
  };
}

/** The text of a pattern, with CASEI and ACCENTI applied to it. */
export function patternOf(node: Node): string | undefined {
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
    if (!path) throw new QueryError("was() needs the name of a field: was('crew').", at);
    return ({ before }) => (before ? valueOfField(before, path) : undefined);
  }
  if (!isName) throw new QueryError(`${name}() needs a name in single quotes.`, at);
  const key = String(arg.value);
  if (name === 'claim') return ({ claims }) => claims && findClaim(claims, key);
  if (!META_NAMES.has(key))
    throw new QueryError(
      `meta() supports 'id', 'version', 'created', 'updated' and 'expires', not '${key}'.`,
      arg.at ?? at,
    );
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
