import { deepEqual, getMember, isObject, type JsonObject, type JsonValue } from './json.js';
import { formatPointer } from './pointer.js';

/** A field that differs between two states of a document; undefined where it is missing. */
export interface FieldChange {
  /** Its name for people, with dots: `pilot.name`. */
  name: string;
  /** Its JSON Pointer (RFC 6901). */
  pointer: string;
  before: JsonValue | undefined;
  after: JsonValue | undefined;
}

/**
 * The fields that differ, as fine as members of objects; lists are compared as a whole. In the order of the fields
 * before, then those that came.
 */
export function fieldChanges(before: JsonObject, after: JsonObject): FieldChange[] {
  const changes: FieldChange[] = [];
  const compare = (was: JsonObject, is: JsonObject, path: string[]): void => {
    for (const name of new Set([...Object.keys(was), ...Object.keys(is)])) {
      const [from, to] = [getMember(was, name), getMember(is, name)];
      const tokens = [...path, name];
      if (isObject(from) && isObject(to)) compare(from, to, tokens);
      else if (from === undefined || to === undefined || !deepEqual(from, to)) {
        changes.push({ name: tokens.join('.'), pointer: formatPointer(tokens), before: from, after: to });
      }
    }
  };
  compare(before, after, []);
  return changes;
}
