import { type Paths, withoutField } from '../document/field-paths.js';
import { deepEqual, getMember, isObject, setMember, type JsonObject, type JsonValue } from '../json/json.js';
import type { OrderTerm } from '../query/order-terms.js';
import type { Node } from '../query/tree.js';

/**
 * Restores concealed fields in data that a caller has written over a document, unless the write sets them.
 *
 * @returns undefined if a concealed field has no place any more, because the write has replaced its parent
 */
export function restoreFields(written: JsonObject, before: JsonObject, paths: Paths): JsonObject | undefined {
  let data: JsonObject | undefined = written;
  for (const path of paths) data = data && restoreField(data, before, path);
  return data;
}

/**
 * Whether written data replaces an object that may contain a concealed field by another value. It depends only on what
 * the writer sees, so it is the same whether there is such a field or not.
 */
export function coversConcealed(written: JsonObject, seenBefore: JsonObject, paths: Paths): boolean {
  return paths.some((path) => {
    let [now, was]: (JsonValue | undefined)[] = [written, seenBefore];
    for (const name of path.slice(0, -1)) {
      now = isObject(now!) ? getMember(now, name) : undefined;
      was = isObject(was!) ? getMember(was, name) : undefined;
      if (now !== undefined && !isObject(now)) return was === undefined || !deepEqual(now, was);
    }
    return false;
  });
}

function restoreField(
  data: JsonObject,
  before: JsonObject,
  [name, ...rest]: readonly string[],
): JsonObject | undefined {
  const [old, now] = [getMember(before, name!), getMember(data, name!)];
  if (old === undefined) return data;
  let value = old;
  if (rest.length === 0) {
    if (now !== undefined) return data;
  } else {
    if (!isObject(old) || withoutField(old, rest) === old) return data;
    if (now !== undefined && !isObject(now)) return undefined;
    const inner = restoreField(isObject(now!) ? now : {}, old, rest);
    if (!inner) return undefined;
    value = inner;
  }
  const copy = { ...data };
  setMember(copy, name!, value);
  return copy;
}

/** A condition as seen by a caller with concealed fields: as if the fields were missing. */
export function concealIn(node: Node, paths: Paths): Node {
  switch (node.kind) {
    case 'property': {
      if (isConcealed(node.path, paths)) return { kind: 'missing' };
      const inside = paths.filter((path) => startsWith(path, node.path)).map((path) => path.slice(node.path.length));
      return inside.length > 0 ? { ...node, without: inside } : node;
    }
    case 'array':
      return { ...node, items: node.items.map((item) => concealIn(item, paths)) };
    case 'interval': {
      const [from, to] = [node.from, node.to].map((end) => end && concealIn(end, paths));
      return { ...node, from, to };
    }
    case 'call':
      return { ...node, args: node.args.map((arg) => concealIn(arg, paths)) };
    default:
      return node;
  }
}

/** An order without the terms that refer to concealed fields. */
export function concealInOrder(order: readonly OrderTerm[], paths: Paths): OrderTerm[] {
  return order.filter(
    ({ meta, path }) => meta || !paths.some((other) => startsWith(path, other) || startsWith(other, path)),
  );
}

function isConcealed(path: readonly string[], paths: Paths): boolean {
  return paths.some((other) => startsWith(path, other));
}

function startsWith(path: readonly string[], beginning: readonly string[]): boolean {
  return beginning.length <= path.length && beginning.every((name, index) => path[index] === name);
}
