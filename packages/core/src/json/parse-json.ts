import { parse as parseForPlace } from '@humanwhocodes/momoa';
import type { JsonValue } from './json.js';

/** Why a text was refused as I-JSON. `position` counts UTF-16 code units from 0. */
export class JsonTextError extends Error {
  override name = 'JsonTextError';
  constructor(
    message: string,
    readonly position: number,
  ) {
    super(message);
  }
}

/**
 * Parses a JSON text and holds it to I-JSON (RFC 7493, sections 2.2 and 2.3): member names within one
 * object are distinct, and whole numbers are written with no more digits than a double holds.
 *
 * @throws {JsonTextError} when the text is not JSON, or not I-JSON
 */
export function parseJson(text: string): JsonValue {
  let value: JsonValue;
  try {
    value = JSON.parse(text) as JsonValue;
  } catch (error) {
    throw explain(text, error as Error);
  }
  const membersWritten = countMembersWritten(text);
  if (membersWritten !== countMembers(value)) {
    throw new JsonTextError('An object has two members with the same name; only one could be kept.', text.length);
  }
  return value;
}

/** Says where and why a text is not JSON. `JSON.parse` does not always report the position. */
function explain(text: string, error: Error): JsonTextError {
  if (text.trim() === '') return new JsonTextError('The text is empty; a JSON value was expected.', 0);
  try {
    parseForPlace(text, { mode: 'json' });
  } catch (placed) {
    const { message, offset } = placed as Error & { offset?: number };
    if (offset !== undefined)
      return new JsonTextError(`The text is not JSON: ${message.replace(/\s*\(\d+:\d+\)$/, '')}`, offset);
  }
  const position = /position (\d+)/.exec(error.message)?.[1];
  return new JsonTextError(
    `The text is not JSON: ${error.message}.`,
    position === undefined ? text.length : Number(position),
  );
}

/** Counts `name: value` pairs in a text known to be JSON, and checks its long number literals. */
function countMembersWritten(text: string): number {
  let members = 0;
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at);
    if (code === 0x22) {
      at = endOfString(text, at);
    } else if (code === 0x3a) {
      members++;
    } else if (code === 0x2d || (code >= 0x30 && code <= 0x39)) {
      const end = endOfNumber(text, at);
      // A negative place: the number has an exponent.
      if (end < 0 || end - at > 15) checkNumber(text.slice(at, Math.abs(end)), at);
      at = Math.abs(end) - 1;
    }
  }
  return members;
}

function endOfString(text: string, start: number): number {
  for (let at = text.indexOf('"', start + 1); ; at = text.indexOf('"', at + 1)) {
    let backslashes = 0;
    while (text.charCodeAt(at - 1 - backslashes) === 0x5c) backslashes++;
    if (backslashes % 2 === 0) return at;
  }
}

/** The place behind a number; negative if the number has an exponent. */
function endOfNumber(text: string, start: number): number {
  let exponent = false;
  let end = start + 1;
  for (; end < text.length; end++) {
    const code = text.charCodeAt(end);
    if (code === 0x45 || code === 0x65) exponent = true;
    else if (!((code >= 0x30 && code <= 0x39) || code === 0x2e || code === 0x2b || code === 0x2d)) break;
  }
  return exponent ? -end : end;
}

function checkNumber(literal: string, position: number): void {
  const value = Number(literal);
  if (!Number.isFinite(value)) {
    throw new JsonTextError(`The number ${literal} is too large for a double; send it as a string.`, position);
  }
  if (/^-?\d+$/.test(literal) && !Number.isSafeInteger(value) && !isHeld(literal, value)) {
    throw new JsonTextError(`The integer ${literal} would lose digits in a double; send it as a string.`, position);
  }
}

/** Whether a double holds a whole number, or is written so: then the number comes back as it was sent. */
function isHeld(literal: string, value: number): boolean {
  return BigInt(literal) === BigInt(value) || String(value) === literal;
}

function countMembers(value: JsonValue): number {
  let members = 0;
  const open: JsonValue[] = [value];
  for (let next = open.pop(); next !== undefined; next = open.pop()) {
    if (typeof next !== 'object' || next === null) continue;
    if (Array.isArray(next)) {
      for (const item of next) if (typeof item === 'object' && item !== null) open.push(item);
      continue;
    }
    for (const name of Object.keys(next)) {
      members++;
      const member = next[name]!;
      if (typeof member === 'object' && member !== null) open.push(member);
    }
  }
  return members;
}
