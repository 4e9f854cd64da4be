import { isObject, setMember, type JsonObject, type JsonValue } from './json.js';

/**
 * Applies a JSON Merge Patch (RFC 7396, section 2). Nothing is changed in place; unchanged members are shared with
 * `target`.
 *
 * @param target the value to patch; undefined if there is none
 * @param patch a merge patch: null removes a member, an object merges, anything else replaces
 */
export function mergePatch(target: JsonValue | undefined, patch: JsonValue): JsonValue {
  if (!isObject(patch)) return patch;
  const result: JsonObject = isObject(target) ? { ...target } : {};
  for (const name of Object.keys(patch)) {
    const change = patch[name]!;
    if (change === null) delete result[name];
    else setMember(result, name, mergePatch(Object.hasOwn(result, name) ? result[name] : undefined, change));
  }
  return result;
}
