import { canonicalText } from '../json/canonical-text.js';
import { isObject, type JsonValue } from '../json/json.js';
import { caseFolding } from './fold-case.js';

/** Steps for each character or item that a function looks at, where it is not one. */
export const WEIGHTS: Readonly<Record<string, number>> = {
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
export function lengthOf(value: JsonValue | undefined): number {
  if (typeof value === 'string') return value.length;
  if (typeof value !== 'object' || value === null) return 0;
  let length = 0;
  if (Array.isArray(value)) for (const inner of value) length += 1 + lengthOf(inner);
  else for (const name of Object.keys(value)) length += 1 + name.length + lengthOf(value[name]);
  return length;
}

/** Without regard to case: full case folding (Unicode, CaseFolding.txt). */
export function foldCase(text: string): string {
  return caseFolding.fold?.(text) ?? text.toLowerCase();
}

/** Without accents: decomposed (UAX #15), the combining marks left out, and composed again. */
export function foldAccents(text: string): string {
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
export const FUNCTIONS: Readonly<Record<string, (...args: JsonValue[]) => JsonValue | undefined>> = {
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
