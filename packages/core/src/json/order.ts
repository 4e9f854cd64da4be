import type { JsonValue } from './json.js';

/**
 * Compares two strings by Unicode code point. JavaScript's `<` compares UTF-16 code units, which puts
 * characters above U+FFFF before U+E000.
 *
 * @returns a negative number, 0 or a positive number
 */
export function compareStrings(a: string, b: string): number {
  const length = Math.min(a.length, b.length);
  for (let at = 0; at < length; at++) {
    const left = a.charCodeAt(at);
    const right = b.charCodeAt(at);
    if (left !== right) return rankCodeUnit(left) - rankCodeUnit(right);
  }
  return a.length - b.length;
}

/** Moves surrogates above the rest of the basic plane, so that code units rank as their code points do. */
function rankCodeUnit(unit: number): number {
  return unit >= 0xd800 && unit <= 0xdfff ? unit + 0x2000 : unit >= 0xe000 ? unit - 0x800 : unit;
}

/** The place of a value's type in the total order; a missing value ranks as null. */
export function typeRank(value: JsonValue | undefined): number {
  switch (typeof value) {
    case 'undefined':
      return 0;
    case 'boolean':
      return value ? 2 : 1;
    case 'number':
      return 3;
    case 'string':
      return 4;
    default:
      return value === null ? 0 : Array.isArray(value) ? 5 : 6;
  }
}

/**
 * The total order of values: missing and null, false, true, numbers, strings by code point, arrays item by
 * item, objects by their members in the order of names. Only equal values compare as 0 (missing and null do).
 *
 * @returns a negative number, 0 or a positive number
 */
export function compareValues(a: JsonValue | undefined, b: JsonValue | undefined): number {
  const rank = typeRank(a);
  const difference = rank - typeRank(b);
  if (difference !== 0 || rank < 3) return difference;
  if (rank === 3) return Number(a) - Number(b);
  if (rank === 4) return compareStrings(a as string, b as string);
  return rank === 5
    ? compareArrays(a as JsonValue[], b as JsonValue[])
    : compareObjects(a as Record<string, JsonValue>, b as Record<string, JsonValue>);
}

function compareArrays(a: JsonValue[], b: JsonValue[]): number {
  const length = Math.min(a.length, b.length);
  for (let index = 0; index < length; index++) {
    const difference = compareValues(a[index], b[index]);
    if (difference !== 0) return difference;
  }
  return a.length - b.length;
}

function compareObjects(a: Record<string, JsonValue>, b: Record<string, JsonValue>): number {
  const namesOfA = Object.keys(a).sort(compareStrings);
  const namesOfB = Object.keys(b).sort(compareStrings);
  const length = Math.min(namesOfA.length, namesOfB.length);
  for (let index = 0; index < length; index++) {
    const name = namesOfA[index]!;
    const difference = compareStrings(name, namesOfB[index]!) || compareValues(a[name], b[name]);
    if (difference !== 0) return difference;
  }
  return namesOfA.length - namesOfB.length;
}
