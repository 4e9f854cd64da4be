import { formatPointer } from '../json/pointer.js';
import { isObject, type JsonObject, type JsonValue } from '../json/json.js';

/**
 * A document in its public form.
 *
 * `version` is the seq of the commit that last wrote it; `created` and `updated` are RFC 3339 times in UTC with
 * milliseconds; `data` contains only the user's fields.
 */
export interface Document {
  id: string;
  version: number;
  created: string;
  updated: string;
  /** When the store deletes it (RFC 3339, UTC), if it ends by itself. */
  expires?: string;
  data: JsonObject;
}

/** How large and how deep a document's data may be. */
export interface DocumentLimits {
  /** Bytes of the data as UTF-8 JSON without spaces. */
  sizeBytes: number;
  /** Levels of nesting; the data itself is level 1. */
  depth: number;
}

/** The limits a store has unless its settings say otherwise: 1 MiB and 64 levels. */
export const DEFAULT_DOCUMENT_LIMITS: DocumentLimits = { sizeBytes: 1024 * 1024, depth: 64 };

/** What makes a value unfit as a document's data, with the place (RFC 6901) where that shows. */
export interface DataFault {
  kind: 'not-an-object' | 'too-deep' | 'too-large' | 'lone-surrogate' | 'not-json';
  pointer: string;
  detail: string;
}

/** Whether `id` is a valid document id: 1 to 128 of `A-Z a-z 0-9 - . _ ~`, neither `.` nor `..`. */
export function isDocumentId(id: string): boolean {
  return /^[A-Za-z0-9\-._~]{1,128}$/.test(id) && id !== '.' && id !== '..';
}

/** Ids that well-known packages for JSON Patch refuse as a part of a path, so that no copy could be kept up to date. */
const RESERVED_IDS: ReadonlySet<string> = new Set(['__proto__', 'constructor', 'prototype']);

/** Whether new documents must not have this id, although its form is valid. */
export function isReservedId(id: string): boolean {
  return RESERVED_IDS.has(id);
}

/** Whether `name` is a valid collection name: a lower-case letter, then up to 63 of `a-z 0-9 -`. */
export function isCollectionName(name: string): boolean {
  return /^[a-z][a-z0-9-]{0,63}$/.test(name);
}

/** Writes a time given in milliseconds since 1970 as RFC 3339 in UTC with milliseconds. */
export function formatTime(timeMs: number): string {
  // Documents that are written together share their times, and one that is written again has its old ones.
  const slot = timeMs % KEPT_TIMES;
  const kept = keptTimes[slot];
  if (kept?.timeMs === timeMs) return kept.text;
  const text = new Date(timeMs).toISOString();
  keptTimes[slot] = { timeMs, text };
  return text;
}

/** Reads a time that {@link formatTime} wrote, in milliseconds since 1970. */
export function parseTime(text: string): number {
  return Date.parse(text);
}

/** The number of times whose text is kept. */
const KEPT_TIMES = 2048;
const keptTimes: ({ timeMs: number; text: string } | undefined)[] = Array.from({ length: KEPT_TIMES });

/**
 * Finds the first reason why `value` cannot be the data of a document (I-JSON, RFC 7493).
 *
 * @param value anything, as received
 * @param depth the maximum nesting
 * @returns the first fault, or undefined for valid data. {@link sizeFault} checks the size of the written text.
 */
export function findDataFault(value: unknown, depth = DEFAULT_DOCUMENT_LIMITS.depth): DataFault | undefined {
  if (!isObject(value)) {
    const found = value === null ? 'null' : Array.isArray(value) ? 'an array' : `a ${typeof value}`;
    return { kind: 'not-an-object', pointer: '', detail: `A document's data must be a JSON object, not ${found}.` };
  }
  return faultIn(value, [], depth);
}

/**
 * The fault of data whose JSON text is over the limit, or undefined.
 *
 * @param sizeBytes the size; undefined when it is over the limit and was not counted to the end
 */
export function sizeFault(sizeBytes: number | undefined, limitBytes: number): DataFault | undefined {
  if (sizeBytes !== undefined && sizeBytes <= limitBytes) return undefined;
  const found = sizeBytes === undefined ? 'too many' : sizeBytes;
  return {
    kind: 'too-large',
    pointer: '',
    detail: `The document's data takes ${found} bytes; at most ${limitBytes} are allowed. Split it into several documents.`,
  };
}

/** Whether the JSON text of a value is longer than a number of bytes. Stops as soon as that is known. */
export function exceedsSize(value: JsonValue, limitBytes: number): boolean {
  let left = limitBytes;
  const count = (node: JsonValue): boolean => {
    if (typeof node === 'string') left -= node.length + 2;
    else left -= 1;
    if (left < 0 || typeof node !== 'object' || node === null) return left < 0;
    if (Array.isArray(node)) return node.some(count);
    return Object.entries(node).some(([name, member]) => {
      left -= name.length + 3;
      return left < 0 || count(member);
    });
  };
  return count(value);
}

function faultIn(value: unknown, path: (string | number)[], depthLeft: number): DataFault | undefined {
  switch (typeof value) {
    case 'string':
      return value.isWellFormed() ? undefined : surrogateFault(path, 'The text');
    case 'boolean':
      return undefined;
    case 'number':
      if (Number.isFinite(value)) return undefined;
      return { kind: 'not-json', pointer: formatPointer(path), detail: `${value} is not a JSON number.` };
    case 'object':
      if (value === null) return undefined;
      if (depthLeft === 0) {
        return {
          kind: 'too-deep',
          pointer: formatPointer(path),
          detail: `The document is nested deeper than ${path.length} levels. Flatten it, or keep the inner part as a document of its own.`,
        };
      }
      return Array.isArray(value)
        ? faultInArray(value, path, depthLeft - 1)
        : faultInObject(value, path, depthLeft - 1);
    default:
      return { kind: 'not-json', pointer: formatPointer(path), detail: `A ${typeof value} cannot be written as JSON.` };
  }
}

function faultInArray(items: unknown[], path: (string | number)[], depthLeft: number): DataFault | undefined {
  for (let index = 0; index < items.length; index++) {
    path.push(index);
    const fault = faultIn(items[index], path, depthLeft);
    if (fault) return fault;
    path.pop();
  }
  return undefined;
}

function faultInObject(object: object, path: (string | number)[], depthLeft: number): DataFault | undefined {
  for (const [name, member] of Object.entries(object)) {
    path.push(name);
    if (!name.isWellFormed()) return surrogateFault(path.slice(0, -1), 'A member name');
    const fault = faultIn(member, path, depthLeft);
    if (fault) return fault;
    path.pop();
  }
  return undefined;
}

function surrogateFault(path: (string | number)[], subject: string): DataFault {
  return {
    kind: 'lone-surrogate',
    pointer: formatPointer(path),
    detail: `${subject} has half of a surrogate pair, which is no Unicode character. Cut texts between characters.`,
  };
}
