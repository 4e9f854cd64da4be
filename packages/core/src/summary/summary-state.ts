import { canonicalText } from '../json/canonical-text.js';
import type { DocumentChange } from '../write/commit.js';
import type { Document } from '../document/document.js';
import { setMember, type JsonObject, type JsonValue } from '../json/json.js';
import type { JsonPatch } from '../json/json-patch.js';
import { compareStrings, compareValues } from '../json/order.js';
import { valueOfField } from '../query/fields.js';
import { place } from '../query/projection.js';
import type { Query } from '../query/prepared-query.js';
import type { Total } from '../query/summary.js';
import { PatchTracker } from '../views/patch-tracker.js';
import { ExactSum } from './exact-sum.js';
import { Extremes } from './extremes.js';

/** The id of the one group of a summary that is by nothing. */
const ALL = 'all';

/** One total of one group: it takes values in and out. */
interface Cell {
  readonly value: JsonValue;
  readonly exhausted?: boolean;
  add(value: JsonValue | undefined): void;
  remove(value: JsonValue | undefined): void;
}

interface Group {
  values: (JsonValue | undefined)[];
  documents: number;
  cells: Cell[];
}

/**
 * The totals of a query with a summary, updated as documents are created, changed and deleted. Each group has the form
 * of a document: its data are the values of `by` and the totals.
 */
export class SummaryState {
  readonly #query: Query;
  readonly #groups = new Map<string, Group>();
  #tracker = new PatchTracker();

  constructor(query: Query) {
    this.#query = query;
    this.clear();
  }

  /** How many groups there are. */
  get size(): number {
    return this.#groups.size;
  }

  /** How many documents are counted in. */
  get counted(): number {
    return [...this.#groups.values()].reduce((sum, { documents }) => sum + documents, 0);
  }

  /** Removes all documents. The last reported state stays, so that the next patch contains the difference. */
  clear(): void {
    for (const id of this.#groups.keys()) this.#tracker.touch(id);
    this.#groups.clear();
    if (this.#query.summary!.by.length > 0) return;
    this.#groups.set(ALL, this.#newGroup([]));
    this.#tracker.touch(ALL);
  }

  /** Counts a document of the query in. */
  add(document: Document): void {
    this.#addSeen(this.#query.see(document));
  }

  /** Counts documents for which only their number matters. */
  addMany(documents: number): void {
    const group = this.#groups.get(ALL)!;
    this.#tracker.touch(ALL);
    group.documents += documents;
    for (const cell of group.cells) if (cell instanceof CountCell) cell.count += documents;
  }

  /** Applies changes. Returns false if a smallest or largest value can only be found by reading all documents. */
  follow(changes: readonly DocumentChange[]): boolean {
    let complete = true;
    for (const { before, after } of changes) {
      if (before && this.#belongs(before)) complete = this.#removeSeen(this.#query.see(before)) && complete;
      if (after && this.#belongs(after)) this.#addSeen(this.#query.see(after));
    }
    return complete || [...this.#groups.values()].every(({ cells }) => !cells.some(({ exhausted }) => exhausted));
  }

  /** The groups, sorted by the fields of `by`. */
  documents(): Document[] {
    const groups = [...this.#groups].sort(
      ([a, one], [b, other]) => compareRows(one.values, other.values) || compareStrings(a, b),
    );
    return groups.map(([id, group]) => this.#show(id, group));
  }

  /** The changes since the previous call, as a patch; they are then considered as reported. */
  takePatch(): JsonPatch {
    return this.#tracker.takePatch((id) => {
      const group = this.#groups.get(id);
      return group && this.#show(id, group);
    });
  }

  /** The difference to what an earlier state has reported; from now on this state reports. */
  takePatchFrom(earlier: SummaryState): JsonPatch {
    this.#tracker = earlier.#tracker;
    this.#tracker.touchAll();
    for (const id of this.#groups.keys()) this.#tracker.touch(id);
    return this.takePatch();
  }

  #belongs(document: Document): boolean {
    return this.#query.matches({ document }) === true;
  }

  #addSeen(document: Document): void {
    const values = this.#valuesOf(document);
    const id = groupId(values);
    let group = this.#groups.get(id);
    if (!group) this.#groups.set(id, (group = this.#newGroup(values)));
    this.#tracker.touch(id);
    group.documents++;
    this.#query.summary!.totals.forEach(({ path }, index) =>
      group.cells[index]!.add(path && valueOfField(document, path)),
    );
  }

  /** Returns false if a smallest or largest value of the group is no longer known. */
  #removeSeen(document: Document): boolean {
    const id = groupId(this.#valuesOf(document));
    const group = this.#groups.get(id);
    if (!group) return true;
    this.#tracker.touch(id);
    if (--group.documents === 0 && id !== ALL) {
      this.#groups.delete(id);
      return true;
    }
    this.#query.summary!.totals.forEach(({ path }, index) =>
      group.cells[index]!.remove(path && valueOfField(document, path)),
    );
    return !group.cells.some(({ exhausted }) => exhausted);
  }

  #valuesOf(document: Document): (JsonValue | undefined)[] {
    return this.#query.summary!.by.map((path) => valueOfField(document, path) ?? null);
  }

  #newGroup(values: (JsonValue | undefined)[]): Group {
    return { values, documents: 0, cells: this.#query.summary!.totals.map(newCell) };
  }

  #show(id: string, { values, cells }: Group): Document {
    const { by, totals } = this.#query.summary!;
    const data: JsonObject = {};
    by.forEach((path, index) => place(data, path, values[index] ?? null));
    totals.forEach(({ name }, index) => setMember(data, name, cells[index]!.value));
    return { id, data } as unknown as Document;
  }
}

function newCell({ total, path }: Total): Cell {
  if (total === 'count') return new CountCell(path !== undefined);
  return total === 'min' || total === 'max' ? new ExtremeCell(total) : new SumCell(total === 'avg');
}

class CountCell implements Cell {
  count = 0;
  /** @param ofField whether those are left out that have nothing in the field */
  constructor(readonly ofField: boolean) {}

  get value(): number {
    return this.count;
  }

  add(value: JsonValue | undefined): void {
    if (!this.ofField || (value ?? null) !== null) this.count++;
  }

  remove(value: JsonValue | undefined): void {
    if (!this.ofField || (value ?? null) !== null) this.count--;
  }
}

class SumCell implements Cell {
  readonly #sum = new ExactSum();
  #numbers = 0;
  constructor(readonly mean: boolean) {}

  get value(): number | null {
    if (this.mean && this.#numbers === 0) return null;
    const value = this.mean ? this.#sum.value / this.#numbers : this.#sum.value;
    // A sum of numbers that JSON has can be larger than any that it has.
    return Number.isFinite(value) ? value : null;
  }

  add(value: JsonValue | undefined): void {
    if (typeof value !== 'number') return;
    this.#sum.add(value);
    this.#numbers++;
  }

  remove(value: JsonValue | undefined): void {
    if (typeof value !== 'number') return;
    this.#sum.subtract(value);
    this.#numbers--;
  }
}

class ExtremeCell implements Cell {
  readonly #extremes: Extremes;
  constructor(which: 'min' | 'max') {
    this.#extremes = new Extremes(which);
  }

  get value(): JsonValue {
    return this.#extremes.first ?? null;
  }

  get exhausted(): boolean {
    return this.#extremes.exhausted;
  }

  add(value: JsonValue | undefined): void {
    if ((value ?? null) !== null) this.#extremes.add(value!);
  }

  remove(value: JsonValue | undefined): void {
    if ((value ?? null) !== null) this.#extremes.remove(value!);
  }
}

function compareRows(a: (JsonValue | undefined)[], b: (JsonValue | undefined)[]): number {
  for (const [index, value] of a.entries()) {
    const difference = compareValues(value, b[index]);
    if (difference !== 0) return difference;
  }
  return 0;
}

/** The name of a group: different for different values, and one that needs no escaping in a JSON Pointer. */
function groupId(values: (JsonValue | undefined)[]): string {
  return values.length === 0 ? ALL : values.map(idPart).join('~.');
}

/** Letters, digits, `-` and `_` of a text stay; its other bytes become `~` and two hex digits. Other values begin with a mark. */
function idPart(value: JsonValue | undefined): string {
  if (typeof value === 'string') return value === '' ? '~e' : encode(value);
  if ((value ?? null) === null) return '~z';
  if (typeof value === 'boolean') return value ? '~t' : '~f';
  return typeof value === 'number'
    ? `~n${encode(String(value === 0 ? 0 : value))}`
    : `~j${encode(canonicalText(value!))}`;
}

function encode(text: string): string {
  return text.replace(/[^A-Za-z0-9_-]/gu, (character) =>
    Array.from(
      new TextEncoder().encode(character),
      (byte) => `~${byte.toString(16).toUpperCase().padStart(2, '0')}`,
    ).join(''),
  );
}
