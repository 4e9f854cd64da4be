import type { Document } from '../document/document.js';
import { isObject, type JsonObject, type JsonValue } from '../json/json.js';
import { joinName } from '../query/names.js';
import { nearNames } from '../text/near-names.js';

/** The type of a value: its JSON type, or by its form a time (RFC 3339) or a place (GeoJSON, RFC 7946). */
export type ShapeType = 'text' | 'time' | 'number' | 'boolean' | 'null' | 'list' | 'object' | 'place';

/** What the values of a field are like. */
export interface FieldShape {
  /** Its name with dots, as queries have it; `[]` behind a name stands for the items of a list. */
  name: string;
  /** How many documents have it. */
  documents: number;
  /** How many values of each type it has. */
  types: Partial<Record<ShapeType, number>>;
  /** The least and the greatest number. */
  numbers?: { min: number; max: number };
  /** True when all its numbers are whole. */
  whole?: boolean;
  /** The different strings, if there are few. */
  values?: string[];
  /** The earliest and the latest time. */
  times?: { min: string; max: string };
  /** The shortest and the longest text, in characters. */
  lengths?: { min: number; max: number };
  /** A few different values, cut where they are long. */
  examples: JsonValue[];
  /** Share of the recent documents that have it, and of the older ones: from 0 to 1. */
  recently: number;
  before: number;
  /** True when so few documents have it that its name may be misspelt. */
  rare: boolean;
  /** Names beside it, of fields that many documents have, that are nearly the same. */
  near: string[];
}

/** What documents of a collection are like. */
export interface Shape {
  /** The number of sampled documents, and of the recent ones among them. */
  documents: number;
  recent: number;
  /** Documents created from here on count as recent. */
  recentSince: string | null;
  fields: FieldShape[];
}

const MAX_FIELDS = 500;
const MAX_LEVELS = 8;
const MAX_EXAMPLES = 4;
const EXAMPLE_CHARACTERS = 60;
/** More different texts than this are not kept. */
const MAX_VALUES = 12;
/** The number of items of a list that are sampled. */
const MAX_ITEMS = 20;
/** A field that fewer have than this share, where there are enough documents to say so, is rare. */
const RARE = 0.02;
const FEWEST = 20;
/** The newest fifth is recent. */
const RECENT = 0.2;
const TIME = /^\d{4}-\d\d-\d\d([T ]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:\d\d)?)?$/;

interface Tally {
  documents: number;
  /** When the documents that have it were created, in milliseconds since 1970. */
  created: number[];
  types: Map<ShapeType, number>;
  numbers: { min: number; max: number } | undefined;
  whole: boolean;
  /** Undefined once there were too many. */
  values: Set<string> | undefined;
  times: { min: string; max: string } | undefined;
  lengths: { min: number; max: number } | undefined;
  examples: Map<string, JsonValue>;
}

/** Reads documents one by one and reports what they have in common, and where they differ. */
export class ShapeFinder {
  readonly #tallies = new Map<string, Tally>();
  readonly #created: number[] = [];

  /** Looks at one more document. */
  add({ data, created }: Document): void {
    const createdMs = Date.parse(created);
    this.#created.push(createdMs);
    const seen = new Set<string>();
    this.#look(data, '', 1, createdMs, seen);
  }

  /** The result: the most frequent fields first. */
  find(): Shape {
    const total = this.#created.length;
    const order = [...this.#created].sort((a, b) => a - b);
    const since = order[Math.floor(total * (1 - RECENT))];
    const recent = since === undefined ? 0 : order.filter((createdMs) => createdMs >= since).length;
    const common = [...this.#tallies].filter(([, { documents }]) => documents > total / 2).map(([name]) => name);
    const fields = [...this.#tallies]
      .map(([name, tally]): FieldShape => {
        const among = tally.created.filter((createdMs) => createdMs >= since!).length;
        const rare = total >= FEWEST && tally.documents <= Math.max(1, total * RARE);
        const recently = share(among, recent);
        const beside = (other: string) => other !== name && parentOf(other) === parentOf(name);
        return {
          name,
          documents: tally.documents,
          types: Object.fromEntries(tally.types),
          ...(tally.numbers ? { numbers: tally.numbers, whole: tally.whole } : {}),
          ...(tally.values?.size ? { values: [...tally.values].sort() } : {}),
          ...(tally.times ? { times: tally.times } : {}),
          ...(tally.lengths ? { lengths: tally.lengths } : {}),
          examples: [...tally.examples.values()],
          recently,
          // Documents that came all at once have no older ones to differ from.
          before: total === recent ? recently : share(tally.documents - among, total - recent),
          rare,
          near: rare ? nearNames(name, common.filter(beside)) : [],
        };
      })
      .sort((a, b) => b.documents - a.documents);
    const recentSince = since === undefined ? null : new Date(since).toISOString();
    return { documents: total, recent, recentSince, fields };
  }

  #look(object: JsonObject, above: string, level: number, createdMs: number, seen: Set<string>): void {
    for (const [key, value] of Object.entries(object)) {
      this.#value(`${above}${joinName([key])}`, value, level, createdMs, seen);
    }
  }

  #value(name: string, value: JsonValue, level: number, createdMs: number, seen: Set<string>): void {
    const tally = this.#tallyOf(name);
    if (!tally) return;
    if (!seen.has(name)) {
      seen.add(name);
      tally.documents++;
      tally.created.push(createdMs);
    }
    note(tally, value);
    if (level >= MAX_LEVELS) return;
    if (Array.isArray(value)) {
      for (const item of value.slice(0, MAX_ITEMS)) {
        if (isObject(item)) this.#look(item, `${name}[].`, level + 1, createdMs, seen);
        else this.#value(`${name}[]`, item, level + 1, createdMs, seen);
      }
    } else if (isObject(value) && typeOfValue(value) === 'object') {
      this.#look(value, `${name}.`, level + 1, createdMs, seen);
    }
  }

  #tallyOf(name: string): Tally | undefined {
    let tally = this.#tallies.get(name);
    if (!tally && this.#tallies.size < MAX_FIELDS) {
      tally = {
        ...{ documents: 0, created: [], types: new Map(), examples: new Map() },
        ...{ numbers: undefined, whole: true, values: new Set(), times: undefined, lengths: undefined },
      };
      this.#tallies.set(name, tally);
    }
    return tally;
  }
}

/** What a value is. */
export function typeOfValue(value: JsonValue): ShapeType {
  if (value === null) return 'null';
  if (typeof value === 'string') return TIME.test(value) ? 'time' : 'text';
  if (typeof value === 'number' || typeof value === 'boolean') return typeof value as 'number' | 'boolean';
  if (Array.isArray(value)) return 'list';
  return typeof value.type === 'string' && Array.isArray(value.coordinates) ? 'place' : 'object';
}

function note(tally: Tally, value: JsonValue): void {
  const type = typeOfValue(value);
  tally.types.set(type, (tally.types.get(type) ?? 0) + 1);
  if (typeof value === 'number') {
    tally.numbers = widen(tally.numbers, value);
    tally.whole &&= Number.isInteger(value);
  }
  if (type === 'text' && tally.values?.add(value as string) && tally.values.size > MAX_VALUES) tally.values = undefined;
  if (type === 'time') tally.times = widen(tally.times, value as string);
  if (type === 'text') tally.lengths = widen(tally.lengths, (value as string).length);
  if (tally.examples.size >= MAX_EXAMPLES || type === 'object' || type === 'list' || type === 'null') return;
  const text = typeof value === 'string' ? value : JSON.stringify(value);
  const cut = text.length > EXAMPLE_CHARACTERS ? `${text.slice(0, EXAMPLE_CHARACTERS)}…` : value;
  tally.examples.set(text, cut);
}

function widen<Value extends number | string>(
  range: { min: Value; max: Value } | undefined,
  value: Value,
): { min: Value; max: Value } {
  if (!range) return { min: value, max: value };
  return { min: value < range.min ? value : range.min, max: value > range.max ? value : range.max };
}

function share(part: number, whole: number): number {
  return whole === 0 ? 0 : Math.round((part / whole) * 1000) / 1000;
}

function parentOf(name: string): string {
  return name.slice(0, Math.max(0, name.lastIndexOf('.')));
}
