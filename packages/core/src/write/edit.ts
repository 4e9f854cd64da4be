import { fieldChanges, type FieldChange } from '../json/field-changes.js';
import { deepEqual, getMember, type JsonObject, type JsonValue } from '../json/json.js';
import { applyPatch, type JsonPatch } from '../json/json-patch.js';
import { formatPointer, parsePointer } from '../json/pointer.js';

/**
 * What somebody altered in a document's data, as a JSON Patch (RFC 6902) behind tests that the fields it alters are still as
 * they were when the edit began. Fields that others alter meanwhile stay as those left them.
 */
export function guardedPatch(before: JsonObject, after: JsonObject): JsonPatch {
  const changes = fieldChanges(before, after);
  const tests = changes.flatMap(({ pointer, before: value }) =>
    value === undefined ? [] : [{ op: 'test' as const, path: pointer, value }],
  );
  const ops = changes.map(({ pointer, after: value }) =>
    value === undefined ? { op: 'remove' as const, path: pointer } : { op: 'add' as const, path: pointer, value },
  );
  return [...tests, ...ops];
}

/** A field that two people altered at the same time, each in another way; undefined where it is missing. */
export interface EditConflict {
  name: string;
  /** Its JSON Pointer (RFC 6901). */
  pointer: string;
  before: JsonValue | undefined;
  mine: JsonValue | undefined;
  theirs: JsonValue | undefined;
}

/** Two edits of the same data brought together. */
export interface MergedEdit {
  /** Theirs with mine in it; where both altered a field, as `keep` decides. */
  data: JsonObject;
  conflicts: EditConflict[];
}

/**
 * Brings together what two people made of the same data.
 *
 * @param keep which of two values of a field stays
 */
export function mergeEdits(
  before: JsonObject,
  mine: JsonObject,
  theirs: JsonObject,
  keep: (conflict: EditConflict) => 'mine' | 'theirs' = () => 'mine',
): MergedEdit {
  const others = fieldChanges(before, theirs);
  const conflicts: EditConflict[] = [];
  let data: JsonValue = theirs;
  for (const change of fieldChanges(before, mine)) {
    const met = others.find(({ pointer }) => overlap(pointer, change.pointer));
    if (met && !same(met, change)) {
      const conflict = { ...conflictOf(change, met), before: change.before };
      conflicts.push(conflict);
      if (keep(conflict) === 'theirs') continue;
    }
    data = setField(data, change);
  }
  return { data: data as JsonObject, conflicts };
}

function conflictOf(mine: FieldChange, theirs: FieldChange): Omit<EditConflict, 'before'> {
  return { name: mine.name, pointer: mine.pointer, mine: mine.after, theirs: theirs.after };
}

function overlap(one: string, other: string): boolean {
  return one === other || one.startsWith(`${other}/`) || other.startsWith(`${one}/`);
}

function same(one: FieldChange, other: FieldChange): boolean {
  if (one.pointer !== other.pointer || one.after === undefined || other.after === undefined) {
    return one.pointer === other.pointer && one.after === other.after;
  }
  return deepEqual(one.after, other.after);
}

/** Sets or removes a field, and makes the objects that it lies in where they have gone. */
function setField(data: JsonValue, { pointer, after }: FieldChange): JsonValue {
  const path = parsePointer(pointer);
  const patch: JsonPatch = [];
  let place: JsonValue | undefined = data;
  for (const [index, key] of path.slice(0, -1).entries()) {
    const next: JsonValue | undefined = getMember(place as JsonObject, key);
    if (typeof next === 'object' && next !== null && !Array.isArray(next)) {
      place = next;
      continue;
    }
    if (after === undefined) return data;
    // Below an object that is not there, everything must be made.
    const made = path.slice(index + 1).reduceRight<JsonValue>((inner, name) => ({ [name]: inner }), after);
    patch.push({ op: 'add', path: formatPointer(path.slice(0, index + 1)), value: made });
    return applyPatch(data, patch);
  }
  if (after !== undefined) patch.push({ op: 'add', path: pointer, value: after });
  else if (getMember(place as JsonObject, path.at(-1)!) !== undefined) patch.push({ op: 'remove', path: pointer });
  return applyPatch(data, patch);
}
