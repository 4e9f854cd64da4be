import type { Document } from '../document/document.js';
import { asGeometry, boxAround } from '../query/spatial.js';
import type { Scalar } from '../query/conditions.js';
import { canonicalText } from '../json/canonical-text.js';
import type { JsonObject, JsonValue } from '../json/json.js';
import type { Node } from '../query/tree.js';
import { Areas } from './areas.js';
import { describeClue, findClues, TOO_MUCH, type Clue, type Subject } from './clues.js';
import { ContainedTexts } from './contained-texts.js';
import { Intervals } from './intervals.js';
import { ItemsByKey } from './items-by-key.js';

/** How the matcher finds a condition, from the cheapest way to the most expensive one. */
export const MATCHING_KINDS = ['values', 'ranges', 'areas', 'texts', 'every-change'] as const;

/** How the matcher finds a condition: by what it is filed under, or by testing it against every change. */
export interface MatchedBy {
  kind: (typeof MATCHING_KINDS)[number];
  /** What a document must fulfil to be tested against the condition, as text. */
  requirements: string[];
}

const KIND_OF: Readonly<Record<Clue['kind'], (typeof MATCHING_KINDS)[number]>> = {
  equal: 'values',
  item: 'values',
  nothing: 'values',
  range: 'ranges',
  area: 'areas',
  part: 'texts',
};

/** The conditions that require something of one subject. What none of them needs is not made. */
class SubjectIndex<Item> {
  byValue: ItemsByKey<Scalar, Item> | undefined;
  byListItem: ItemsByKey<string, Item> | undefined;
  parts: ContainedTexts<Item> | undefined;
  #numbers: Intervals<Item> | undefined;
  #texts: Intervals<Item> | undefined;
  #areas: Areas<Item> | undefined;
  #nothing: Set<Item> | undefined;
  /** Each item, and how many clues it is filed under here. */
  readonly items = new Map<Item, number>();

  constructor(readonly subject: Subject) {}

  add(clue: Clue, item: Item): void {
    this.items.set(item, (this.items.get(item) ?? 0) + 1);
    switch (clue.kind) {
      case 'equal':
        return addToEach((this.byValue ??= new ItemsByKey()), clue.values, item);
      case 'item':
        return addToEach((this.byListItem ??= new ItemsByKey()), clue.values, item);
      case 'range':
        if (isNumeric(clue)) (this.#numbers ??= new Intervals()).add(clue, item);
        else (this.#texts ??= new Intervals()).add(clue, item);
        return;
      case 'part':
        return (this.parts ??= new ContainedTexts()).add(clue.part, item);
      case 'area':
        return (this.#areas ??= new Areas()).add(clue.box, item);
      case 'nothing':
        (this.#nothing ??= new Set()).add(item);
    }
  }

  /** Removes what {@link add} has added. */
  remove(clue: Clue, item: Item): void {
    const clues = this.items.get(item)! - 1;
    if (clues === 0) this.items.delete(item);
    else this.items.set(item, clues);
    switch (clue.kind) {
      case 'equal':
        return removeFromEach(this.byValue!, clue.values, item);
      case 'item':
        return removeFromEach(this.byListItem!, clue.values, item);
      case 'range':
        return (isNumeric(clue) ? this.#numbers! : this.#texts!).remove(clue, item);
      case 'part':
        return this.parts!.remove(clue.part, item);
      case 'area':
        return this.#areas!.remove(clue.box, item);
      case 'nothing':
        this.#nothing!.delete(item);
    }
  }

  /** Calls `found` for the items that the value of a document may concern. */
  find(document: Document, found: (item: Item) => void): void {
    const value = this.subject.read(document);
    if (value === TOO_MUCH) for (const item of this.items.keys()) found(item);
    else if (value === undefined || value === null) this.#nothing?.forEach(found);
    else if (typeof value === 'object') this.#findInside(value, found);
    else {
      this.byValue?.find(value, found);
      if (typeof value === 'number') this.#numbers?.find(value, found);
      else if (typeof value === 'string') {
        this.#texts?.find(value, found);
        this.parts?.find(value, found);
      }
    }
  }

  #findInside(value: JsonObject | JsonValue[], found: (item: Item) => void): void {
    if (Array.isArray(value)) {
      if (this.byListItem) for (const one of value) this.byListItem.find(canonicalText(one), found);
    } else if (this.#areas) {
      const geometry = asGeometry(value);
      if (geometry) this.#areas.find(boxAround(geometry), found);
    }
  }
}

function isNumeric({ low, high }: Clue & { kind: 'range' }): boolean {
  return typeof (low ?? high)!.value === 'number';
}

function addToEach<Key, Item>(items: ItemsByKey<Key, Item>, keys: readonly Key[], item: Item): void {
  for (const key of keys) items.add(key, item);
}

function removeFromEach<Key, Item>(items: ItemsByKey<Key, Item>, keys: readonly Key[], item: Item): void {
  for (const key of keys) items.remove(key, item);
}

/**
 * Finds, among very many conditions on one collection, the few that a document can make true. Each condition is indexed by
 * its most selective clue: a value in a hash map, a range in an interval tree, an area in a grid, or a text that another
 * one must contain. A condition without a clue is tested against every change.
 */
export class Matcher<Item> {
  readonly #subjects = new Map<string, SubjectIndex<Item>>();
  readonly #list = new Set<Item>();
  readonly #clues = new Map<Item, Clue[]>();

  /** The number of conditions. */
  get size(): number {
    return this.#clues.size;
  }

  /** How many conditions every change is tested against. */
  get listSize(): number {
    return this.#list.size;
  }

  /** Adds an item with its condition; undefined is always true. */
  add(item: Item, where: Node | undefined): void {
    const clues = this.#choose(where);
    this.#clues.set(item, clues);
    if (clues.length === 0) this.#list.add(item);
    for (const clue of clues) {
      let index = this.#subjects.get(clue.key);
      if (!index) this.#subjects.set(clue.key, (index = new SubjectIndex(clue)));
      index.add(clue, item);
    }
  }

  remove(item: Item): void {
    const clues = this.#clues.get(item);
    if (!clues) return;
    this.#clues.delete(item);
    this.#list.delete(item);
    for (const clue of clues) {
      const index = this.#subjects.get(clue.key)!;
      index.remove(clue, item);
      if (index.items.size === 0) this.#subjects.delete(clue.key);
    }
  }

  /** Calls `found` for every item whose condition the document may make true; perhaps more than once for one item. */
  candidates(document: Document, found: (item: Item) => void): void {
    this.#list.forEach(found);
    for (const index of this.#subjects.values()) index.find(document, found);
  }

  /** Describes how a condition is, or would be, found. */
  describe(where: Node | undefined): MatchedBy {
    const clues = this.#choose(where);
    if (clues.length === 0) return { kind: 'every-change', requirements: [] };
    const kinds = clues.map(({ kind }) => MATCHING_KINDS.indexOf(KIND_OF[kind]));
    return { kind: MATCHING_KINDS[Math.max(...kinds)]!, requirements: clues.map(describeClue) };
  }

  /** Of each alternative, the clue that the fewest documents can be expected to give. */
  #choose(where: Node | undefined): Clue[] {
    const alternatives = where && findClues(where);
    if (!alternatives) return [];
    const chosen = alternatives.map((row) =>
      row.reduce((best, next) => (this.#cost(next) < this.#cost(best) ? next : best)),
    );
    // The same clue may have been the best of several alternatives.
    return [...new Map(chosen.map((clue) => [JSON.stringify(clue), clue])).values()];
  }

  #cost(clue: Clue): number {
    const index = this.#subjects.get(clue.key);
    switch (clue.kind) {
      case 'equal':
      case 'item': {
        const items = (clue.kind === 'equal' ? index?.byValue : index?.byListItem) as
          ItemsByKey<Scalar, Item> | undefined;
        // Values shared with many other conditions are less selective than unique values.
        const crowd = Math.max(...clue.values.slice(0, 20).map((value) => items?.count(value) ?? 0));
        return (
          (clue.isId ? -1 : 0) +
          clue.values.length +
          crowd / 2 +
          (clue.values.some((value) => typeof value === 'boolean') ? 100 : 0)
        );
      }
      case 'area':
        return 40;
      case 'part':
        return (PART_COST[clue.part.length] ?? 20) + (index?.parts?.crowd(clue.part) ?? 0) / 2;
      case 'range':
        // A range of texts with two ends is mostly a beginning that they have.
        return !clue.low || !clue.high ? 150 : isNumeric(clue) ? 60 : 30;
      case 'nothing':
        return 600;
    }
  }
}

/** Short texts are contained in many others. */
const PART_COST: readonly number[] = [5000, 400, 150, 50];
