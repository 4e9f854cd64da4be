import { fieldChanges, type FieldChange } from '../json/field-changes.js';
import { deepEqual, getMember, type JsonObject, type JsonValue } from '../json/json.js';
import { applyPatch, type JsonPatch } from '../json/json-patch.js';
import { formatPointer, parsePointer } from '../json/pointer.js';

/**
 * An edit of a document as a JSON Patch (RFC 6902), preceded by tests that the edited fields still have their values
 * from the start of the edit. Fields that others change meanwhile keep the changes.
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

/** A field that two people changed differently at the same time; undefined if it is missing. */
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
  /** Their document with my changes; `keep` decides about fields that both changed. */
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
