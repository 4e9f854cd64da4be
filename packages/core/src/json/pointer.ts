import { getMember, isObject, type JsonValue } from './json.js';

/** Raised for a text that is not a JSON Pointer. */
export class PointerError extends Error {
  override name = 'PointerError';
}

/** Writes one reference token for use in a JSON Pointer (RFC 6901, section 3). */
export function escapeToken(token: string): string {
  return token.includes('~') || token.includes('/') ? token.replaceAll('~', '~0').replaceAll('/', '~1') : token;
}

/** Reads one reference token of a JSON Pointer (RFC 6901, section 4). */
export function unescapeToken(token: string): string {
  return token.includes('~') ? token.replaceAll('~1', '/').replaceAll('~0', '~') : token;
}

/** Joins reference tokens into a JSON Pointer (RFC 6901). No tokens give `""`, the whole value. */
export function formatPointer(tokens: readonly (string | number)[]): string {
  return tokens.map((token) => '/' + escapeToken(String(token))).join('');
}

/**
 * Splits a JSON Pointer into its reference tokens (RFC 6901, sections 3 and 4).
 *
 * @throws {PointerError} when the text is neither empty nor begins with `/`, or has a stray `~`
 */
export function parsePointer(pointer: string): string[] {
  if (pointer === '') return [];
  if (!pointer.startsWith('/')) throw new PointerError(`The pointer "${pointer}" must be empty or begin with "/".`);
  if (/~(?![01])/.test(pointer)) throw new PointerError(`In the pointer "${pointer}", "~" must be written "~0".`);
  return pointer.slice(1).split('/').map(unescapeToken);
}

/** The array index a token stands for, or undefined when it is none: digits without leading zeros. */
export function arrayIndex(token: string): number | undefined {
  return /^(0|[1-9]\d{0,15})$/.test(token) ? Number(token) : undefined;
}

/** The value at `tokens` inside `value`, or undefined where nothing is. */
export function valueAt(value: JsonValue, tokens: readonly string[]): JsonValue | undefined {
  let current: JsonValue | undefined = value;
  for (const token of tokens) {
    if (Array.isArray(current)) {
      const index = arrayIndex(token);
      current = index === undefined ? undefined : current[index];
    } else if (isObject(current)) {
      current = getMember(current, token);
    } else {
      return undefined;
    }
  }
  return current;
}
