import { groupDigits } from './group-digits.js';
import { deepEqual, getMember, isObject, setMember, type JsonObject, type JsonValue } from './json.js';
import { arrayIndex, parsePointer, valueAt } from './pointer.js';

/** One operation of a JSON Patch (RFC 6902, section 4). */
export type PatchOperation =
  | { op: 'add' | 'replace' | 'test'; path: string; value: JsonValue }
  | { op: 'remove'; path: string }
  | { op: 'move' | 'copy'; from: string; path: string };

/** A JSON Patch (RFC 6902): operations applied one after the other. */
export type JsonPatch = PatchOperation[];

/** Raised when a patch cannot be applied; then nothing of it is. `index` is the operation at fault. */
export class PatchError extends Error {
  override name = 'PatchError';
  constructor(
    message: string,
    readonly index: number,
    readonly path: string,
    /** True when an operation `test` found another value: the condition failed, the patch itself is valid. */
    readonly testFailed = false,
  ) {
    super(message);
  }
}

/** Raised when applying a patch takes more steps than it may. */
export class PatchWorkError extends Error {
  override name = 'PatchWorkError';
  constructor(readonly limit: number) {
    super(`takes more than ${groupDigits(limit)} steps. Send fewer operations on long lists, or replace the list.`);
  }
}

/**
 * Counts the steps of patches: one for an item or member copied, and one for every eighth item that an insertion or removal
 * moves. The count depends on the patch and the document alone.
 */
export class PatchWork {
  constructor(
    readonly limit: number,
    public left = limit,
  ) {}

  /** @throws {PatchWorkError} when more steps were taken than may be */
  add(steps: number): void {
    this.left -= steps;
    if (this.left < 0) throw new PatchWorkError(this.limit);
  }
}

/** The most steps that the patches of one commit may take: about a tenth of a second. */
export const PATCH_WORK_LIMIT = 20_000_000;

/**
 * Applies a JSON Patch (RFC 6902). `target` stays as it is; the result shares with it what did not change,
 * so unchanged parts keep their object identity.
 *
 * @param work counts the steps; several patches may share it. Without it there is no limit
 * @throws {PatchError} when a path leads nowhere or a `test` fails; the patch is applied whole or not at all
 * @throws {PointerError} when a path is not a JSON Pointer
 * @throws {PatchWorkError} when it takes too many steps
 */
export function applyPatch(
  target: JsonValue,
  patch: readonly PatchOperation[],
  work = new PatchWork(Infinity),
): JsonValue {
  let current = target;
  const fresh = new Fresh(work);
  patch.forEach((operation, index) => {
    const fail = (message: string, testFailed = false): never => {
      throw new PatchError(message, index, operation.path, testFailed);
    };
    const path = parsePointer(operation.path);
    switch (operation.op) {
      case 'add':
      case 'replace':
        current = write(current, path, 0, operation.op, operation.value, fresh, fail);
        break;
      case 'remove':
        current = write(current, path, 0, 'remove', null, fresh, fail);
        break;
      case 'test': {
        const found = valueAt(current, path);
        if (found !== undefined) work.add(countSteps(operation.value));
        if (found === undefined || !deepEqual(found, operation.value)) {
          fail(`The value at "${operation.path}" is not the tested value.`, true);
        }
        break;
      }
      default: {
        const value = valueAt(current, parsePointer(operation.from));
        if (value === undefined) return fail(`There is nothing at "${operation.from}".`);
        if (operation.op === 'move') {
          if (operation.path.startsWith(operation.from + '/')) fail('A value cannot be moved into itself.');
          current = write(current, parsePointer(operation.from), 0, 'remove', null, fresh, fail);
        } else {
          // From here on two places hold the same value, so neither may be changed in place.
          fresh.share(value);
        }
        current = write(current, path, 0, 'add', value, fresh, fail);
      }
    }
  });
  return current;
}

type Fail = (message: string) => never;
type WriteKind = 'add' | 'replace' | 'remove';

/**
 * Returns `node` with one place written. Containers on the path are copied once per patch: those in `fresh` were
 * created by an earlier operation of this patch and are not shared.
 */
function write(
  node: JsonValue,
  path: string[],
  at: number,
  kind: WriteKind,
  value: JsonValue,
  fresh: Fresh,
  fail: Fail,
): JsonValue {
  if (at === path.length) return kind === 'remove' ? null : value;
  const token = path[at]!;
  const last = at === path.length - 1;
  if (Array.isArray(node)) {
    const copy = fresh.own(node, node.length, () => node.slice());
    writeItem(copy, token, last, kind, value, fresh, fail, (item) =>
      write(item, path, at + 1, kind, value, fresh, fail),
    );
    return copy;
  }
  if (!isObject(node)) return fail(`"/${path.slice(0, at).join('/')}" is neither an object nor an array.`);
  const existing = getMember(node, token);
  if (existing === undefined && !(last && kind === 'add')) return fail(`There is no member "${token}".`);
  const copy: JsonObject = fresh.own(node, undefined, () => ({ ...node }));
  if (!last) setMember(copy, token, write(existing!, path, at + 1, kind, value, fresh, fail));
  else if (kind === 'remove') delete copy[token];
  else setMember(copy, token, value);
  return copy;
}

function writeItem(
  items: JsonValue[],
  token: string,
  last: boolean,
  kind: WriteKind,
  value: JsonValue,
  fresh: Fresh,
  fail: Fail,
  descend: (item: JsonValue) => JsonValue,
): void {
  const index = token === '-' && last && kind === 'add' ? items.length : arrayIndex(token);
  const limit = last && kind === 'add' ? items.length : items.length - 1;
  if (index === undefined || index > limit) return fail(`"${token}" is not an index of this array of ${items.length}.`);
  if (last && kind !== 'replace') fresh.work.add(1 + ((items.length - index) >> 3));
  if (!last) items[index] = descend(items[index]!);
  else if (kind === 'add') items.splice(index, 0, value);
  else if (kind === 'replace') items[index] = value;
  else items.splice(index, 1);
}

/**
 * The containers that earlier operations of a patch have created and that occur in one place only, so that they can be
 * changed in place. A container that holds one of them is one itself.
 */
class Fresh {
  readonly #made = new Set<object>();

  constructor(readonly work: PatchWork) {}

  /** A container that may be changed: itself if this patch has created it, otherwise a copy. */
  own<T extends object>(node: T, size: number | undefined, copy: () => T): T {
    if (this.#made.has(node)) return node;
    this.work.add(1 + (size ?? Object.keys(node).length));
    const made = copy();
    this.#made.add(made);
    return made;
  }

  /** Notes that a value stands in two places from now on. */
  share(value: JsonValue): void {
    if (typeof value !== 'object' || value === null || !this.#made.delete(value)) return;
    const members = Array.isArray(value) ? value : Object.values(value);
    this.work.add(members.length);
    for (const member of members) this.share(member);
  }
}

/** How many values there are in a value. */
function countSteps(value: JsonValue): number {
  if (typeof value !== 'object' || value === null) return 1;
  let steps = 1;
  for (const member of Array.isArray(value) ? value : Object.values(value)) steps += countSteps(member);
  return steps;
}
