import type { Document } from '../document/document.js';
import type { JsonValue } from '../json/json.js';
import { findRequirements, type Requirement, type Scalar } from '../query/conditions.js';
import { valueOfField, metaValue } from '../query/fields.js';
import { joinName } from '../query/names.js';
import type { Node } from '../query/tree.js';
import { Intervals } from './intervals.js';

/** How the matcher files a condition: under values, under ranges, or in the list that every change is tested against. */
export interface MatchedBy {
  kind: 'values' | 'ranges' | 'list';
  /** The requirement that the condition is filed under, for people. */
  under: string[];
}

/** Everything that is filed under one field. */
interface FieldFile<Item> {
  path: readonly string[];
  meta: boolean;
  byValue: Map<Scalar, Set<Item>>;
  numbers: Intervals<Item>;
  texts: Intervals<Item>;
  entries: number;
}

/**
 * Finds, among very many conditions on one collection, the few that a document can make true. Each condition is filed under
 * one thing that must hold for it, the most selective there is: a value in a hash map or a range in an interval tree. What
 * has none is in a list.
 */
export class Matcher<Item> {
  readonly #fields = new Map<string, FieldFile<Item>>();
  readonly #list = new Set<Item>();
  readonly #filed = new Map<Item, Requirement[]>();

  /** How many conditions are filed. */
  get size(): number {
    return this.#filed.size;
  }

  /** How many conditions every change is tested against. */
  get listSize(): number {
    return this.#list.size;
  }

  /** Files an item under its condition; undefined is always true. */
  add(item: Item, where: Node | undefined): void {
    const requirements = this.#choose(where);
    this.#filed.set(item, requirements);
    if (requirements.length === 0) this.#list.add(item);
    for (const requirement of requirements) this.#file(requirement, item);
  }

  remove(item: Item): void {
    const requirements = this.#filed.get(item);
    if (!requirements) return;
    this.#filed.delete(item);
    this.#list.delete(item);
    for (const requirement of requirements) this.#unfile(requirement, item);
  }

  /** Calls `found` for every item whose condition the document may make true; perhaps more than once for one item. */
  candidates(document: Document, found: (item: Item) => void): void {
    this.#list.forEach(found);
    for (const file of this.#fields.values()) {
      const value = file.meta ? metaValue(document, file.path[0]!) : valueOfField(document, file.path);
      if (value === undefined || value === null || typeof value === 'object') continue;
      file.byValue.get(value)?.forEach(found);
      if (typeof value === 'number') file.numbers.find(value, found);
      else if (typeof value === 'string') file.texts.find(value, found);
    }
  }

  /** Describes how a condition is, or would be, filed. */
  describe(where: Node | undefined): MatchedBy {
    const requirements = this.#choose(where);
    if (requirements.length === 0) return { kind: 'list', under: [] };
    const kind = requirements.every((requirement) => requirement.kind === 'equal') ? 'values' : 'ranges';
    return { kind, under: requirements.map(describeRequirement) };
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

  #file(requirement: Requirement, item: Item): void {
    const key = fieldKey(requirement);
    let file = this.#fields.get(key);
    if (!file) {
      const { path, meta } = requirement;
      file = { path, meta, byValue: new Map(), numbers: new Intervals(), texts: new Intervals(), entries: 0 };
      this.#fields.set(key, file);
    }
    file.entries++;
    if (requirement.kind === 'range') {
      this.#treeFor(file, requirement).add(requirement, item);
      return;
    }
    for (const value of requirement.values) {
      const items = file.byValue.get(value);
      if (items) items.add(item);
      else file.byValue.set(value, new Set([item]));
    }
  }

  #unfile(requirement: Requirement, item: Item): void {
    const key = fieldKey(requirement);
    const file = this.#fields.get(key)!;
    if (requirement.kind === 'range') this.#treeFor(file, requirement).remove(requirement, item);
    else
      for (const value of requirement.values) {
        const items = file.byValue.get(value);
        items?.delete(item);
        if (items?.size === 0) file.byValue.delete(value);
      }
    if (--file.entries === 0) this.#fields.delete(key);
  }

  #treeFor(file: FieldFile<Item>, { low, high }: Requirement & { kind: 'range' }): Intervals<Item> {
    return typeof (low ?? high)!.value === 'number' ? file.numbers : file.texts;
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
