import { type Paths, withoutField } from '../document/field-paths.js';
import { deepEqual, getMember, isObject, setMember, type JsonObject, type JsonValue } from '../json/json.js';
import type { OrderTerm } from '../query/order-terms.js';
import type { Node } from '../query/tree.js';

/**
 * Puts the fields that somebody does not see back into data that they have written over a document, where they have not
 * set them anew.
 *
 * @returns undefined where a concealed field has no place any more, because they have put something else over it
 */
export function restoreFields(written: JsonObject, before: JsonObject, paths: Paths): JsonObject | undefined {
  let data: JsonObject | undefined = written;
  for (const path of paths) data = data && restoreField(data, before, path);
  return data;
}

/**
 * Tells whether written data has something other than an object where a concealed field would lie within one, and had not
 * before. It is judged by what the writer sees, so it is the same whether there is such a field or not.
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

/** A condition as somebody may ask it who does not see some fields: to them it is as if the fields were missing. */
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

/** An order without the terms that would tell of concealed fields. */
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
