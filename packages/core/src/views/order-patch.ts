import type { JsonPatch } from '../json/json-patch.js';

/**
 * The difference of two lists of ids as a JSON Patch (RFC 6902). It moves as few ids as possible, by `remove` and `add`;
 * where the whole list takes fewer bytes, it is one `replace`.
 *
 * @param before distinct ids
 * @param after distinct ids
 * @param path the JSON Pointer of the list
 */
export function patchForOrder(before: readonly string[], after: readonly string[], path: string): JsonPatch {
  const kept = longestCommonOrder(before, after);
  const patch: JsonPatch = [];
  for (let index = before.length - 1; index >= 0; index--) {
    if (!kept.has(before[index]!)) patch.push({ op: 'remove', path: `${path}/${index}` });
  }
  after.forEach((id, index) => {
    if (!kept.has(id)) patch.push({ op: 'add', path: `${path}/${index}`, value: id });
  });
  if (patch.length < 2) return patch;
  const whole: JsonPatch = [{ op: 'replace', path, value: [...after] }];
  return JSON.stringify(whole).length < JSON.stringify(patch).length ? whole : patch;
}

/** The ids of a longest common subsequence of two lists of distinct ids, in n log n steps. */
function longestCommonOrder(before: readonly string[], after: readonly string[]): ReadonlySet<string> {
  const kept = new Set<string>();
  let start = 0;
  while (start < before.length && before[start] === after[start]) kept.add(before[start++]!);
  let [tailBefore, tailAfter] = [before.length, after.length];
  while (tailBefore > start && tailAfter > start && before[tailBefore - 1] === after[tailAfter - 1]) {
    kept.add(before[--tailBefore]!);
    tailAfter--;
  }
  const places = new Map<string, number>();
  for (let index = start; index < tailBefore; index++) places.set(before[index]!, index);

  // Of each length, the id with the smallest place that a rising sequence of that length ends with.
  const tails: string[] = [];
  const previous = new Map<string, string | undefined>();
  for (let index = start; index < tailAfter; index++) {
    const id = after[index]!;
    const place = places.get(id);
    if (place === undefined) continue;
    let low = 0;
    let high = tails.length;
    while (low < high) {
      const middle = (low + high) >>> 1;
      if (places.get(tails[middle]!)! < place) low = middle + 1;
      else high = middle;
    }
    previous.set(id, tails[low - 1]);
    tails[low] = id;
  }
  for (let id = tails.at(-1); id !== undefined; id = previous.get(id)) kept.add(id);
  return kept;
}
