import type { JsonValue } from '@uproar/core';

/** What can stand in a condition: its text is quoted as a value, never read as a part of the condition. */
export type Quotable =
  string | number | boolean | Date | Condition | FieldName | readonly (string | number | boolean)[];

/** A condition in CQL2, made by {@link where}. */
export class Condition {
  constructor(readonly text: string) {}

  toString(): string {
    return this.text;
  }
}

/** The text of a field name. A symbol, so that it is no field. */
const TEXT = Symbol('text');

/** The name of a field, made by {@link field}. */
export class FieldName {
  readonly [TEXT]: string;

  constructor(text: string) {
    this[TEXT] = text;
  }
}

/**
 * A condition with values in it, safely quoted: `` where`status = ${status} AND altitude > ${metres}` ``. A list stands for a
 * list in brackets, a Date for its time as RFC 3339 text, another condition for itself in brackets.
 *
 * @throws {TypeError} for what cannot be a value: null (write `IS NULL`), undefined, NaN and infinite numbers, objects
 */
export function where(parts: TemplateStringsArray, ...values: readonly Quotable[]): Condition {
  return new Condition(parts.reduce((text, part, index) => text + quote(values[index - 1]!) + part));
}

/** Names a field in a condition, with any characters; dots reach into objects. */
export function field(name: string): FieldName {
  const parts = name
    .split('.')
    .map((part) => (/^[A-Za-z_][A-Za-z0-9_]*$/.test(part) ? part : `"${part.replaceAll('"', '""')}"`));
  return new FieldName(parts.join('.'));
}

/** Fields that name themselves: `fields.pilot.name` is the field `pilot.name`. */
export function fieldNames(path?: string): unknown {
  return new Proxy(path === undefined ? {} : field(path), {
    get: (target, member) =>
      typeof member === 'symbol'
        ? target[member as never]
        : fieldNames(path === undefined ? member : `${path}.${member}`),
  });
}

function quote(value: Quotable): string {
  if (value instanceof Condition) return `(${value.text})`;
  if (value instanceof FieldName) return value[TEXT];
  if (Array.isArray(value)) return `(${value.map((item: Quotable) => quote(item)).join(', ')})`;
  if (value instanceof Date) return quote(value.toISOString());
  switch (typeof value) {
    case 'string':
      if (!value.isWellFormed()) throw new TypeError('The string has a lone surrogate.');
      return `'${value.replaceAll("'", "''")}'`;
    case 'boolean':
      return value ? 'TRUE' : 'FALSE';
    case 'number':
      if (Number.isFinite(value)) return String(value);
  }
  const found = (value as JsonValue) === null ? 'null (write IS NULL)' : `${String(value)} (${typeof value})`;
  throw new TypeError(`A condition cannot contain ${found}.`);
}
