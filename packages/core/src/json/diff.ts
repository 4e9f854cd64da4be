import { canonicalText } from './canonical-text.js';
import { deepEqual, isObject, type JsonObject, type JsonValue } from './json.js';
import { escapeToken } from './pointer.js';
import type { JsonPatch, PatchOperation } from './json-patch.js';

/** Above this many comparisons in all, arrays are not aligned item by item any more; they are replaced. */
const MAX_ALIGNMENT_CELLS = 250_000;

/** The lists to compare, and the remaining number of item comparisons. */
interface Task {
  operations: JsonPatch;
  cellsLeft: number;
}

/**
 * The difference of two JSON values as a JSON Patch (RFC 6902) of `add`, `remove` and `replace`: applied to
 * `before` it gives `after`. It is as fine as single members and items, except where replacing a whole
 * object or array takes fewer bytes.
 *
 * @param path the JSON Pointer that the operations' paths begin with
 */
export function diff(before: JsonValue, after: JsonValue, path = ''): JsonPatch {
  const task: Task = { operations: [], cellsLeft: MAX_ALIGNMENT_CELLS };
  compare(before, after, path, task);
  return task.operations;
}

function compare(before: JsonValue, after: JsonValue, path: string, task: Task): void {
  const { operations } = task;
  if (before === after) return;
  const start = operations.length;
  if (isObject(before) && isObject(after)) compareObjects(before, after, path, task);
  else if (Array.isArray(before) && Array.isArray(after)) compareArrays(before, after, path, task);
  else {
    if (!deepEqual(before, after)) operations.push({ op: 'replace', path, value: after });
    return;
  }
  if (operations.length - start > 1) shortenIfWholeIsSmaller(after, path, operations, start);
}

/** Swaps the operations from `start` on for one `replace` of the container, where that is shorter. */
function shortenIfWholeIsSmaller(after: JsonValue, path: string, operations: JsonPatch, start: number): void {
  const whole: PatchOperation = { op: 'replace', path, value: after };
  const wholeLength = JSON.stringify(whole).length;
  let length = 0;
  for (let index = start; index < operations.length && length <= wholeLength; index++) {
    length += JSON.stringify(operations[index]).length + 1;
  }
  if (length > wholeLength) operations.splice(start, operations.length - start, whole);
}

function compareObjects(before: JsonObject, after: JsonObject, path: string, task: Task): void {
  for (const name of Object.keys(before)) {
    const memberPath = `${path}/${escapeToken(name)}`;
    if (Object.hasOwn(after, name)) compare(before[name]!, after[name]!, memberPath, task);
    else task.operations.push({ op: 'remove', path: memberPath });
  }
  for (const name of Object.keys(after)) {
    if (!Object.hasOwn(before, name)) {
      task.operations.push({ op: 'add', path: `${path}/${escapeToken(name)}`, value: after[name]! });
    }
  }
}

function compareArrays(before: JsonValue[], after: JsonValue[], path: string, task: Task): void {
  let start = 0;
  while (start < before.length && start < after.length && deepEqual(before[start]!, after[start]!)) start++;
  let tailBefore = before.length;
  let tailAfter = after.length;
  while (tailBefore > start && tailAfter > start && deepEqual(before[tailBefore - 1]!, after[tailAfter - 1]!)) {
    tailBefore--;
    tailAfter--;
  }
  const removed = before.slice(start, tailBefore);
  const added = after.slice(start, tailAfter);
  if (removed.length === added.length) {
    removed.forEach((item, index) => compare(item, added[index]!, `${path}/${start + index}`, task));
  } else if ((task.cellsLeft -= (removed.length + 1) * (added.length + 1)) < 0) {
    task.operations.push({ op: 'replace', path, value: after });
  } else {
    alignArrays(removed, added, start, path, task.operations);
  }
}

/** Follows a longest common subsequence of `removed` and `added` and writes the operations for the rest. */
function alignArrays(
  removed: JsonValue[],
  added: JsonValue[],
  start: number,
  path: string,
  operations: JsonPatch,
): void {
  const [were, are] = numberItems(removed, added) as [number[], number[]];
  const width = added.length + 1;
  const common = new Uint32Array((removed.length + 1) * width);
  for (let i = removed.length - 1; i >= 0; i--) {
    for (let j = added.length - 1; j >= 0; j--) {
      common[i * width + j] =
        were[i] === are[j]
          ? common[(i + 1) * width + j + 1]! + 1
          : Math.max(common[(i + 1) * width + j]!, common[i * width + j + 1]!);
    }
  }
  let i = 0;
  let j = 0;
  let index = start;
  while (i < removed.length || j < added.length) {
    const keep = i < removed.length && j < added.length && were[i] === are[j];
    if (keep) {
      i++;
      j++;
      index++;
    } else if (
      j < added.length &&
      (i === removed.length || common[i * width + j + 1]! >= common[(i + 1) * width + j]!)
    ) {
      operations.push({ op: 'add', path: `${path}/${index}`, value: added[j]! });
      j++;
      index++;
    } else {
      operations.push({ op: 'remove', path: `${path}/${index}` });
      i++;
    }
  }
}

/** Numbers for the items of two lists: the same for items that are equal. */
function numberItems(...lists: JsonValue[][]): number[][] {
  const numbers = new Map<JsonValue, number>();
  return lists.map((list) =>
    list.map((item) => {
      // A text stands for itself with a mark before it, so that it is never taken for the text of an object.
      const key = typeof item === 'string' ? `'${item}` : typeof item === 'object' ? canonicalText(item) : item;
      if (!numbers.has(key)) numbers.set(key, numbers.size);
      return numbers.get(key)!;
    }),
  );
}
