import type { JsonValue } from '../json/json.js';
import { compareStrings } from '../json/order.js';

/** What a key begins with, by the kind of value; in the total order of values. 0 ends a list or an object. */
const RANK = { end: 0, nothing: 1, false: 2, true: 3, number: 4, text: 5, list: 6, object: 7 } as const;

/** Keys of numbers lie below this one, and keys of texts at or above it; the like for the other kinds. */
export const KIND_LIMITS = {
  number: { from: Uint8Array.of(RANK.number), to: Uint8Array.of(RANK.text) },
  string: { from: Uint8Array.of(RANK.text), to: Uint8Array.of(RANK.list) },
} as const;

/**
 * Writes a value as bytes whose order, compared byte by byte, is the total order of values. Missing values and null
 * have the same key.
 */
export function indexKey(value: JsonValue | undefined): Uint8Array {
  const bytes: number[] = [];
  append(value, bytes);
  return Uint8Array.from(bytes);
}

function append(value: JsonValue | undefined, bytes: number[]): void {
  if (value === undefined || value === null) bytes.push(RANK.nothing);
  else if (typeof value === 'boolean') bytes.push(value ? RANK.true : RANK.false);
  else if (typeof value === 'number') appendNumber(value, bytes);
  else if (typeof value === 'string') appendText(value, bytes);
  else if (Array.isArray(value)) {
    bytes.push(RANK.list);
    for (const item of value) append(item, bytes);
    bytes.push(RANK.end);
  } else {
    bytes.push(RANK.object);
    for (const name of Object.keys(value).sort(compareStrings)) {
      appendText(name, bytes);
      append(value[name], bytes);
    }
    bytes.push(RANK.end);
  }
}

const float = new DataView(new ArrayBuffer(8));

/** A double as 8 bytes: positive ones with the sign bit set, negative ones with all bits turned round. */
function appendNumber(value: number, bytes: number[]): void {
  bytes.push(RANK.number);
  float.setFloat64(0, value === 0 ? 0 : value);
  const negative = value < 0;
  for (let at = 0; at < 8; at++) {
    const byte = float.getUint8(at);
    bytes.push(negative ? byte ^ 0xff : at === 0 ? byte | 0x80 : byte);
  }
}

const utf8 = new TextEncoder();

/** A text as UTF-8 with each zero byte followed by 255, and a zero and a one at the end. */
function appendText(text: string, bytes: number[]): void {
  bytes.push(RANK.text);
  for (const byte of utf8.encode(text)) {
    bytes.push(byte);
    if (byte === 0) bytes.push(0xff);
  }
  bytes.push(0, 1);
}
