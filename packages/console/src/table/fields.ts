import {
  getMember,
  groupDigits,
  isObject,
  joinName,
  nearNames,
  setMember,
  typeOfValue,
  type ShapeType,
} from '@uproar/core';
import type { Document, JsonObject, JsonValue } from '@uproar/client';

/** The types of the values of a field, in the sampled documents. */
export type FieldType = 'text' | 'number' | 'yes/no' | 'time' | 'place' | 'object' | 'list' | 'empty' | 'mixed';

/** A field of the documents. */
export interface Field {
  /** Its name with dots, as queries have it. */
  name: string;
  path: readonly string[];
  type: FieldType;
  /** The number of values of each type: `212 numbers, 3 texts`. */
  kinds: string;
  /** True when most values are numbers, which then stand at the right. */
  numeric: boolean;
  /** The number of sampled documents that have the field. */
  count: number;
  /** True when so few have it that its name may be misspelt. */
  rare: boolean;
  /** Common names that are nearly this one. */
  near: readonly string[];
  /** Characters of the longest value. */
  longest: number;
}

/** A field's name for people: as in queries, but without the quotes that only a query needs. */
export function labelOf({ name, path }: Pick<Field, 'name' | 'path'>): string {
  return path.length === 1 && !path[0]!.includes('.') ? path[0]! : name;
}

/** The number of documents that are sampled for fields. */
const SAMPLE = 4000;
const MAX_FIELDS = 200;

/** With fewer documents than this, nothing is called rare. */
const FEWEST = 20;
const RARE = 0.02;

interface Tally {
  path: readonly string[];
  count: number;
  longest: number;
  kinds: Map<FieldType, number>;
}

/**
 * The fields found in documents, the most common first, otherwise in order of appearance.
 *
 * @param unfolded names of objects whose members count as fields of their own
 */
export function findFields(documents: readonly Document[], unfolded: ReadonlySet<string>): Field[] {
  const tallies = new Map<string, Tally>();
  const step = Math.max(1, Math.floor(documents.length / SAMPLE));
  let looked = 0;
  const look = (data: JsonObject, path: readonly string[]): void => {
    for (const [key, value] of Object.entries(data)) {
      const here = [...path, key];
      const name = joinName(here);
      if (unfolded.has(name) && isObject(value)) {
        look(value, here);
        continue;
      }
      let tally = tallies.get(name);
      if (!tally) {
        if (tallies.size >= MAX_FIELDS) continue;
        tallies.set(name, (tally = { path: here, count: 0, longest: 0, kinds: new Map() }));
      }
      const type = typeOf(value);
      tally.count++;
      tally.kinds.set(type, (tally.kinds.get(type) ?? 0) + 1);
      if (tally.longest < 40) tally.longest = Math.max(tally.longest, formatCell(value).length);
    }
  };
  for (let index = 0; index < documents.length; index += step) {
    looked++;
    look(documents[index]!.data, []);
  }
  const common = [...tallies].filter(([, { count }]) => count > looked / 2).map(([name]) => name);
  return [...tallies]
    .sort(([, a], [, b]) => Number(b.count > looked / 2) - Number(a.count > looked / 2))
    .map(([name, { path, count, longest, kinds }]) => {
      const rare = looked >= FEWEST && count <= Math.max(1, looked * RARE);
      return { name, path, count, longest, rare, near: rare ? nearNames(name, common) : [], ...describeKinds(kinds) };
    });
}

/** The value of a field; undefined where a document does not have it. */
export function valueAt(data: JsonObject, path: readonly string[]): JsonValue | undefined {
  let value: JsonValue | undefined = data;
  for (const key of path) value = isObject(value) ? getMember(value, key) : undefined;
  return value;
}

/**
 * Sets the value of a field in place, and creates the objects around it.
 *
 * @returns false if something else than an object stands in its way; nothing is set then
 */
export function setValueAt(data: JsonObject, path: readonly string[], value: JsonValue): boolean {
  let place = data;
  for (const name of path.slice(0, -1)) {
    const next = getMember(place, name);
    if (next === undefined) setMember(place, name, {});
    else if (!isObject(next)) return false;
    place = getMember(place, name) as JsonObject;
  }
  setMember(place, path.at(-1)!, value);
  return true;
}

/** A value as one line of text. */
export function formatCell(value: JsonValue | undefined): string {
  if (value === undefined) return '';
  if (typeof value === 'string') return value.length > 200 ? `${value.slice(0, 200)}…` : value;
  if (typeof value !== 'object' || value === null) return String(value);
  if (Array.isArray(value)) return JSON.stringify(value).slice(0, 200);
  return JSON.stringify(value).slice(0, 200).replaceAll('"', '');
}

/** The kind of a value, which decides its colour. */
export function kindOf(value: JsonValue | undefined): string {
  if (value === undefined) return 'missing';
  if (value === null) return 'null';
  return typeof value;
}

const TYPES: Record<ShapeType, FieldType> = {
  ...{ text: 'text', time: 'time', number: 'number', list: 'list', object: 'object', place: 'place' },
  boolean: 'yes/no',
  null: 'empty',
};

function typeOf(value: JsonValue): FieldType {
  return TYPES[typeOfValue(value)];
}

function describeKinds(kinds: ReadonlyMap<FieldType, number>): Pick<Field, 'type' | 'kinds' | 'numeric'> {
  const named = [...kinds].filter(([type]) => type !== 'empty');
  const [first] = named.sort(([, a], [, b]) => b - a);
  return {
    numeric: first?.[0] === 'number',
    type: !first ? 'empty' : named.length > 1 ? 'mixed' : first[0],
    kinds: [...kinds].map(([type, count]) => `${groupDigits(count)} × ${type}`).join(', '),
  };
}
