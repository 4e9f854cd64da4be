import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { findRequirements, type Requirement, type Scalar } from '../query/conditions.js';
import { valueOfField, metaValue } from '../query/fields.js';
import { joinName } from '../query/names.js';
import type { Node } from '../query/tree.js';
import { Intervals } from './intervals.js';

/** How the matcher finds a condition: by values, by ranges, or by testing it against every change. */
export interface MatchedBy {
  kind: 'values' | 'ranges' | 'every-change';
  /** What a document must fulfil to be tested against the condition, as text. */
  requirements: string[];
}

/** The conditions that require something of one field. */
interface FieldIndex<Item> {
  path: readonly string[];
  meta: boolean;
  byValue: Map<Scalar, Set<Item>>;
  numbers: Intervals<Item>;
  texts: Intervals<Item>;
  entries: number;
}

/**
 * Finds, among very many conditions on one collection, the few that a document can make true. Each condition is indexed by
 * its most selective requirement: a value in a hash map or a range in an interval tree. A condition without one is tested
 * against every change.
 */
export class Matcher<Item> {
  readonly #fields = new Map<string, FieldIndex<Item>>();
  readonly #list = new Set<Item>();
  readonly #requirements = new Map<Item, Requirement[]>();

  /** The number of conditions. */
  get size(): number {
    return this.#requirements.size;
  }

  /** How many conditions every change is tested against. */
  get listSize(): number {
    return this.#list.size;
  }

  /** Adds an item with its condition; undefined is always true. */
  add(item: Item, where: Node | undefined): void {
    const requirements = this.#choose(where);
    this.#requirements.set(item, requirements);
    if (requirements.length === 0) this.#list.add(item);
    for (const requirement of requirements) this.#addTo(requirement, item);
  }

  remove(item: Item): void {
    const requirements = this.#requirements.get(item);
    if (!requirements) return;
    this.#requirements.delete(item);
    this.#list.delete(item);
    for (const requirement of requirements) this.#removeFrom(requirement, item);
  }

  /** Calls `found` for every item whose condition the document may make true; perhaps more than once for one item. */
  candidates(document: Document, found: (item: Item) => void): void {
    this.#list.forEach(found);
    for (const index of this.#fields.values()) {
      const value = index.meta ? metaValue(document, index.path[0]!) : valueOfField(document, index.path);
      if (value === undefined || value === null || typeof value === 'object') continue;
      index.byValue.get(value)?.forEach(found);
      if (typeof value === 'number') index.numbers.find(value, found);
      else if (typeof value === 'string') index.texts.find(value, found);
    }
  }

  /** Describes how a condition is, or would be, found. */
  describe(where: Node | undefined): MatchedBy {
    const requirements = this.#choose(where);
    if (requirements.length === 0) return { kind: 'every-change', requirements: [] };
    const kind = requirements.every((requirement) => requirement.kind === 'equal') ? 'values' : 'ranges';
    return { kind, requirements: requirements.map(describeRequirement) };
  }

  /** Of each alternative, the requirement that the fewest documents can be expected to meet. */
  #choose(where: Node | undefined): Requirement[] {
    const alternatives = where && findRequirements(where);
    if (!alternatives) return [];
    const chosen = alternatives.map((row) =>
      row.reduce((best, next) => (this.#cost(next) < this.#cost(best) ? next : best)),
    );
    // The same requirement may have been the best of several alternatives.
    return [...new Map(chosen.map((requirement) => [JSON.stringify(requirement), requirement])).values()];
  }

  #cost(requirement: Requirement): number {
    if (requirement.kind === 'range') return requirement.low && requirement.high ? 1000 : 2000;
    const byValue = this.#fields.get(fieldKey(requirement))?.byValue;
    // Values shared with many other conditions are less selective than unique values.
    const crowd = Math.max(...requirement.values.slice(0, 20).map((value) => byValue?.get(value)?.size ?? 0));
    const isId = requirement.meta && requirement.path[0] === 'id';
    return (
      (isId ? -1 : 0) +
      requirement.values.length +
      Math.min(crowd, 500) / 2 +
      (requirement.values.some((value) => typeof value === 'boolean') ? 100 : 0)
    );
  }

  #addTo(requirement: Requirement, item: Item): void {
    const key = fieldKey(requirement);
    let index = this.#fields.get(key);
    if (!index) {
      const { path, meta } = requirement;
      index = { path, meta, byValue: new Map(), numbers: new Intervals(), texts: new Intervals(), entries: 0 };
      this.#fields.set(key, index);
    }
    index.entries++;
    if (requirement.kind === 'range') {
      this.#treeFor(index, requirement).add(requirement, item);
      return;
    }
    for (const value of requirement.values) {
      const items = index.byValue.get(value);
      if (items) items.add(item);
      else index.byValue.set(value, new Set([item]));
    }
  }

  #removeFrom(requirement: Requirement, item: Item): void {
    const key = fieldKey(requirement);
    const index = this.#fields.get(key)!;
    if (requirement.kind === 'range') this.#treeFor(index, requirement).remove(requirement, item);
    else
      for (const value of requirement.values) {
        const items = index.byValue.get(value);
        items?.delete(item);
        if (items?.size === 0) index.byValue.delete(value);
      }
    if (--index.entries === 0) this.#fields.delete(key);
  }

  #treeFor(index: FieldIndex<Item>, { low, high }: Requirement & { kind: 'range' }): Intervals<Item> {
    return typeof (low ?? high)!.value === 'number' ? index.numbers : index.texts;
  }
}

function fieldKey({ path, meta }: Requirement): string {
  return `${meta ? 'm' : 'f'}${path.length === 1 ? path[0] : JSON.stringify(path)}`;
}

function describeRequirement(requirement: Requirement): string {
  const name = requirement.meta ? `meta('${requirement.path[0]}')` : joinName(requirement.path);
  const show = (value: JsonValue) => (typeof value === 'string' ? `'${value}'` : String(value));
  if (requirement.kind === 'equal') {
    const { values } = requirement;
    return values.length === 1 ? `${name} = ${show(values[0]!)}` : `${name} IN (${values.length} values)`;
  }
  const { low, high } = requirement;
  const parts = [
    low && `${name} ${low.inclusive ? '>=' : '>'} ${show(low.value)}`,
    high && `${name} ${high.inclusive ? '<=' : '<'} ${show(high.value)}`,
  ];
  return parts.filter(Boolean).join(' AND ');
}
