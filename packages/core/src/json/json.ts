/** A value that JSON can carry (RFC 8259). */
export type JsonValue = null | boolean | number | string | JsonValue[] | JsonObject;

/** A JSON object. Members are own properties; names such as `__proto__` are ordinary. */
export interface JsonObject {
  [name: string]: JsonValue;
}

/** Whether `value` is a JSON object, and neither null nor an array. */
export function isObject(value: unknown): value is JsonObject {
  return typeof value === 'object' && value !== null && !Array.isArray(value);
}

/**
 * Sets a member as an own property, under any name. Plain assignment to `__proto__` would change
 * the object's prototype instead.
 */
export function setMember(object: JsonObject, name: string, value: JsonValue): void {
  if (name === '__proto__') {
    Object.defineProperty(object, name, { value, enumerable: true, configurable: true, writable: true });
  } else {
    object[name] = value;
  }
}

/** The member called `name`, or undefined. Never looks at the prototype. */
export function getMember(object: JsonObject, name: string): JsonValue | undefined {
  return Object.hasOwn(object, name) ? object[name] : undefined;
}

/** Deep equality of JSON values. Members may stand in any order; numbers compare by value. */
export function deepEqual(a: JsonValue, b: JsonValue): boolean {
  if (a === b) return true;
  if (typeof a !== 'object' || typeof b !== 'object' || a === null || b === null) return false;
  if (Array.isArray(a)) {
    return Array.isArray(b) && a.length === b.length && a.every((item, index) => deepEqual(item, b[index]!));
  }
  if (Array.isArray(b)) return false;
  const names = Object.keys(a);
  if (names.length !== Object.keys(b).length) return false;
  return names.every((name) => Object.hasOwn(b, name) && deepEqual(a[name]!, b[name]!));
}
