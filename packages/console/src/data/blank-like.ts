import type { Document, JsonObject, JsonValue } from '@uproar/client';
import { getMember, isObject, setMember } from '@uproar/core';

/** Data with the fields that at least half of some documents have, each with an empty value of its most frequent type. */
export function blankLike(documents: readonly Pick<Document, 'data'>[]): JsonObject {
  return blankOf(documents.map(({ data }) => data));
}

function blankOf(objects: readonly JsonObject[]): JsonObject {
  const blank: JsonObject = {};
  for (const name of new Set(objects.flatMap((object) => Object.keys(object)))) {
    const values = objects.map((object) => getMember(object, name)).filter((value) => value !== undefined);
    if (values.length * 2 >= objects.length) setMember(blank, name, emptyLike(values));
  }
  return blank;
}

function emptyLike(values: readonly JsonValue[]): JsonValue {
  const counts = new Map<string, number>();
  for (const value of values) counts.set(kindOf(value), (counts.get(kindOf(value)) ?? 0) + 1);
  const [kind] = [...counts].sort(([, a], [, b]) => b - a)[0]!;
  if (kind === 'object') return blankOf(values.filter(isObject));
  return { string: '', number: 0, boolean: false, array: [] }[kind] ?? null;
}

function kindOf(value: JsonValue): string {
  return value === null ? 'null' : Array.isArray(value) ? 'array' : typeof value;
}
