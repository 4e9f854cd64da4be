import type { Document, JsonObject, JsonValue } from '@uproar/client';
import { deepEqual, findDataFault, isObject, joinName, setMember } from '@uproar/core';
import type { PlannedWrite } from '../actions/planned-write.js';
import { setValueAt, valueAt } from '../table/fields.js';

/** One change that is made to many documents. */
export type BulkEdit =
  | { kind: 'set'; path: readonly string[]; value: JsonValue }
  | { kind: 'remove'; path: readonly string[] }
  | { kind: 'add'; path: readonly string[]; by: number }
  | {
      kind: 'replace';
      /** Undefined: in all texts. */
      path: readonly string[] | undefined;
      find: string;
      by: string;
      /** Whether capital and small letters differ. */
      matchCase: boolean;
    };

/** What an edit does. */
export interface EditPlan {
  writes: (PlannedWrite & {
    changes: { name: string; before: JsonValue | undefined; after: JsonValue | undefined }[];
  })[];
  /** Documents that are already as the edit would make them. */
  unchanged: number;
  /** Documents that cannot be edited like that, and why. */
  skipped: { id: string; reason: string }[];
}

/** Works out what an edit does to documents. Nothing is written. */
export function planEdit(documents: readonly Document[], edit: BulkEdit): EditPlan {
  const plan: EditPlan = { writes: [], unchanged: 0, skipped: [] };
  for (const document of documents) {
    const changes: EditPlan['writes'][number]['changes'] = [];
    const data = structuredClone(document.data);
    const fault = apply(data, edit, changes) ?? findDataFault(data)?.detail;
    if (fault !== undefined) plan.skipped.push({ id: document.id, reason: fault });
    else if (changes.length === 0) plan.unchanged++;
    else plan.writes.push({ id: document.id, now: document, to: data, changes });
  }
  return plan;
}

type Changes = EditPlan['writes'][number]['changes'];

/** Applies an edit to data in place. Returns why it cannot be applied. */
function apply(data: JsonObject, edit: BulkEdit, changes: Changes): string | undefined {
  if (edit.kind === 'replace') {
    const pattern = new RegExp(edit.find.replace(/[\\^$.*+?()[\]{}|/]/g, '\\$&'), edit.matchCase ? 'gu' : 'giu');
    replaceIn(data, [], edit, pattern, changes);
    return undefined;
  }
  const before = valueAt(data, edit.path);
  const name = joinName(edit.path);
  if (edit.kind === 'add') {
    if (typeof before !== 'number') return before === undefined ? `It has no ${name}.` : `${name} is not a number.`;
    // Without the noise of binary fractions: 0.1 + 0.2 is 0.3.
    const after = Number((before + edit.by).toPrecision(15));
    if (after === before) return undefined;
    setValueAt(data, edit.path, after);
    changes.push({ name, before, after });
    return undefined;
  }
  if (edit.kind === 'remove') {
    if (before === undefined) return undefined;
    const parent = valueAt(data, edit.path.slice(0, -1)) as JsonObject;
    delete parent[edit.path.at(-1)!];
    changes.push({ name, before, after: undefined });
    return undefined;
  }
  if (before !== undefined && deepEqual(before, edit.value)) return undefined;
  if (!setValueAt(data, edit.path, edit.value)) return `${joinName(edit.path.slice(0, -1))} is not an object.`;
  changes.push({ name, before, after: edit.value });
  return undefined;
}

/** Replaces text in the members of an object, also inside of objects and lists. */
function replaceIn(
  value: JsonObject,
  path: readonly string[],
  edit: Extract<BulkEdit, { kind: 'replace' }>,
  pattern: RegExp,
  changes: Changes,
): void {
  for (const [name, before] of Object.entries(value)) {
    const here = [...path, name];
    if (edit.path && !isOnWay(here, edit.path)) continue;
    const whole = !edit.path || here.length >= edit.path.length;
    if (isObject(before)) {
      replaceIn(before, here, edit, pattern, changes);
      continue;
    }
    if (!whole) continue;
    const after = replaceText(before, pattern, edit.by);
    if (deepEqual(before, after)) continue;
    setMember(value, name, after);
    changes.push({ name: joinName(here), before, after });
  }
}

/** Whether one path leads to the other, or lies inside of it. */
function isOnWay(path: readonly string[], to: readonly string[]): boolean {
  return path.slice(0, to.length).every((name, index) => to[index] === name);
}

function replaceText(value: JsonValue, pattern: RegExp, by: string): JsonValue {
  if (typeof value === 'string') return value.replace(pattern, () => by);
  if (Array.isArray(value)) return value.map((item) => replaceText(item, pattern, by));
  if (!isObject(value)) return value;
  return Object.fromEntries(Object.entries(value).map(([name, inner]) => [name, replaceText(inner, pattern, by)]));
}
