import { canonicalText } from '../json/canonical-text.js';
import { getMember, isObject, setMember, type JsonObject, type JsonValue } from '../json/json.js';
import { compareValues } from '../json/order.js';
import { arrayIndex, formatPointer, parsePointer } from '../json/pointer.js';
import { formatTime } from '../document/document.js';

/**
 * One operation on one field, applied to the current value in the store.
 *
 * A missing field counts as 0 for `add`, as an empty list for the lists, and takes the value given for `max` and
 * `min`. A field of another type is refused, null too.
 */
export type Adjustment =
  | { add: number }
  | { max: number | string }
  | { min: number | string }
  | { append: JsonValue[] }
  | { with: JsonValue[] }
  | { without: JsonValue[] }
  | { now: true }
  | { clear: true };

/** Adjustments by the JSON Pointer (RFC 6901) of the field each is for. */
export type Adjustments = Record<string, Adjustment>;

/** Why adjustments cannot be applied. `pointer` is the field, within the document's data. */
export class AdjustError extends Error {
  override name = 'AdjustError';
  constructor(
    message: string,
    readonly pointer: string,
  ) {
    super(message);
  }
}

/**
 * Looks for what makes adjustments unfit for every document: a pointer that is none, one within another (the outcome
 * would depend on their order), or the whole document.
 *
 * @returns the pointer at fault and why, or undefined
 */
export function findAdjustFault(by: Adjustments): { pointer: string; detail: string } | undefined {
  const seen = new Set(Object.keys(by));
  for (const pointer of seen) {
    if (!pointer.startsWith('/')) {
      return { pointer, detail: `"${pointer}" must be the JSON Pointer of a field, such as /headcount.` };
    }
    if (/~(?![01])/.test(pointer)) return { pointer, detail: `In the pointer "${pointer}", "~" must be written "~0".` };
    for (let slash = pointer.lastIndexOf('/'); slash > 0; slash = pointer.lastIndexOf('/', slash - 1)) {
      const outer = pointer.slice(0, slash);
      if (seen.has(outer)) return { pointer, detail: `"${pointer}" lies within "${outer}"; adjust only one of them.` };
    }
  }
  return undefined;
}

/**
 * Applies adjustments. `data` stays as it is; the result shares with it what did not change.
 *
 * @param timeMs what `now` writes, as RFC 3339
 * @throws {AdjustError} when a field is of another type, a number would go out of bounds, or a path cannot be followed
 */
export function applyAdjustments(data: JsonObject, by: Adjustments, timeMs: number): JsonObject {
  let result = data;
  for (const [pointer, adjustment] of Object.entries(by)) {
    const alter = (value: JsonValue | undefined) => adjustValue(value, adjustment, pointer, timeMs);
    result = alterAt(result, parsePointer(pointer), 0, alter) as JsonObject;
  }
  return result;
}

type Alter = (value: JsonValue | undefined) => JsonValue | undefined;

/** Returns `node` with one place changed. Missing objects on the path are created if a value is set. */
function alterAt(node: JsonValue | undefined, path: string[], at: number, alter: Alter): JsonValue | undefined {
  if (at === path.length) return alter(node);
  const token = path[at]!;
  const here = formatPointer(path.slice(0, at));
  if (Array.isArray(node)) {
    const index = arrayIndex(token);
    if (index === undefined || index >= node.length) {
      throw new AdjustError(
        `"${token}" is not an index of the list at "${here}", which has ${node.length} items.`,
        here,
      );
    }
    const item = alterAt(node[index], path, at + 1, alter);
    if (item === undefined) {
      throw new AdjustError(`An item of a list cannot be cleared; use "without" on "${here}".`, formatPointer(path));
    }
    return node.with(index, item);
  }
  if (node !== undefined && !isObject(node)) {
    throw new AdjustError(`"${here}" is ${nameType(node)}, so it has no members.`, here);
  }
  const value = alterAt(node && getMember(node, token), path, at + 1, alter);
  if (value === undefined && (!node || !Object.hasOwn(node, token))) return node;
  const copy: JsonObject = { ...node };
  if (value === undefined) delete copy[token];
  else setMember(copy, token, value);
  return copy;
}

function adjustValue(
  value: JsonValue | undefined,
  adjustment: Adjustment,
  pointer: string,
  timeMs: number,
): JsonValue | undefined {
  if ('now' in adjustment) return formatTime(timeMs);
  if ('clear' in adjustment) return undefined;
  if ('add' in adjustment) return add(value === undefined ? 0 : value, adjustment.add, pointer);
  if ('max' in adjustment || 'min' in adjustment) {
    const [name, bound] = 'max' in adjustment ? (['max', adjustment.max] as const) : (['min', adjustment.min] as const);
    if (value === undefined) return bound;
    if (typeof value !== typeof bound) throw wrongType(value, pointer, name, `a ${typeof bound}`);
    const difference = compareValues(value, bound);
    return (name === 'max' ? difference >= 0 : difference <= 0) ? value : bound;
  }
  const [name, items] =
    'append' in adjustment
      ? (['append', adjustment.append] as const)
      : 'with' in adjustment
        ? (['with', adjustment.with] as const)
        : (['without', adjustment.without] as const);
  if (value === undefined && name === 'without') return undefined;
  const list = value === undefined ? [] : value;
  if (!Array.isArray(list)) throw wrongType(list, pointer, name, 'a list');
  return name === 'append' ? [...list, ...items] : name === 'with' ? withItems(list, items) : withoutItems(list, items);
}

function add(value: JsonValue, amount: number, pointer: string): number {
  if (typeof value !== 'number') throw wrongType(value, pointer, 'add', 'a number');
  const sum = value + amount;
  if (Math.abs(sum) <= Number.MAX_SAFE_INTEGER) return sum;
  throw new AdjustError(
    `Adding ${amount} to ${value} at "${pointer}" goes beyond 9007199254740991, up to which sums are exact.`,
    pointer,
  );
}

/** The list with each item that no other equals (deeply), once. */
function withItems(list: JsonValue[], items: JsonValue[]): JsonValue[] {
  const known = new Set(list.map(canonicalText));
  const added = items.filter((item) => {
    const text = canonicalText(item);
    return !known.has(text) && known.add(text);
  });
  return added.length === 0 ? list : [...list, ...added];
}

function withoutItems(list: JsonValue[], items: JsonValue[]): JsonValue[] {
  const gone = new Set(items.map(canonicalText));
  const left = list.filter((item) => !gone.has(canonicalText(item)));
  return left.length === list.length ? list : left;
}

function wrongType(value: JsonValue, pointer: string, name: string, expected: string): AdjustError {
  return new AdjustError(`"${name}" needs ${expected} at "${pointer}", but there is ${nameType(value)}.`, pointer);
}

function nameType(value: JsonValue): string {
  if (value === null) return 'null';
  return Array.isArray(value) ? 'a list' : typeof value === 'object' ? 'an object' : `a ${typeof value}`;
}
