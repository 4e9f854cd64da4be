import { getMember, isObject, setMember, type JsonObject, type JsonValue } from '../json/json.js';
import type { Document } from './document.js';

/** Paths of fields. */
export type Paths = readonly (readonly string[])[];

/** A document without the fields at some paths. A document without these fields is returned unchanged. */
export function withoutFields(document: Document, paths: Paths): Document {
  const data = paths.reduce(withoutField, document.data);
  return data === document.data ? document : { ...document, data };
}

/** A value without the fields at some paths inside it. */
export function valueWithout(value: JsonValue | undefined, paths: Paths): JsonValue | undefined {
  return isObject(value) ? paths.reduce<JsonObject>(withoutField, value) : value;
}

export function withoutField(data: JsonObject, [name, ...rest]: readonly string[]): JsonObject {
  const value = getMember(data, name!);
  if (value === undefined) return data;
  if (rest.length > 0) {
    if (!isObject(value)) return data;
    const inner = withoutField(value, rest);
    if (inner === value) return data;
    const copy = { ...data };
    setMember(copy, name!, inner);
    return copy;
  }
  const copy = { ...data };
  delete copy[name!];
  return copy;
}
