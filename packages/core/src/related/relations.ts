import type { Document } from '../document/document.js';
import type { JsonObject, JsonValue } from '../json/json.js';
import type { Include, Query } from '../query/prepared-query.js';
import { valueOfField } from '../query/fields.js';

/** Finds related documents, at one state of the store. */
export interface Relations {
  /** The document with an id that an include may take. */
  get(include: Include, id: string): Document | undefined;
  /**
   * The first documents that are related `by` a field there.
   *
   * @param owner the id that the field holds
   */
  find(include: Include, owner: string, wanted: number): { documents: Document[]; more: boolean };
}

/** A document with its related documents; `related` is next to the data and not part of it. */
export type RelatedDocument = Document & { related: JsonObject };

/** Whether a document there is one that an include takes, as far as it can be seen; how it is related is another matter. */
export function isTaken({ query }: Include, document: Document): boolean {
  return query.matches({ document }) === true;
}

/** The id that a document there holds in the field by which it is related; undefined where it holds none. */
export function ownerOf({ by, query }: Include, document: Document): string | undefined {
  const value = valueOfField(query.see(document), by!);
  return typeof value === 'string' ? value : undefined;
}

/** The ids that a document here holds, each once, and whether they are a list. */
export function idsOf({ via }: Include, here: Query, document: Document): { ids: string[]; list: boolean } {
  const value = valueOfField(here.see(document), via!);
  const list = Array.isArray(value);
  const ids = (list ? value : [value]).filter((id): id is string => typeof id === 'string');
  return { ids: [...new Set(ids)], list };
}

/** The shown documents of a list of ids, in order. */
export function chooseListed({ query, limit }: Include, documents: Document[]): Document[] {
  if (query.order.length > 0) documents.sort(query.compare);
  return documents.slice(0, limit);
}

/** The related documents of a document, as a query returns them. */
export function relatedTo(document: Document, query: Query, relations: Relations): JsonObject {
  const related: JsonObject = {};
  for (const include of query.includes) {
    const { documents, list } = findRelated(include, query, document, relations);
    const shown = documents.map((one) => showRelated(one, include.query, relations) as unknown as JsonValue);
    related[include.name] = list ? shown : (shown[0] ?? null);
  }
  return related;
}

/** A document as a query with includes shows it. */
export function showRelated(document: Document, query: Query, relations: Relations): Document {
  const shown = query.show(document);
  return query.includes.length === 0 ? shown : withRelated(shown, relatedTo(document, query, relations));
}

/** A document as it is returned, with its related documents. */
export function withRelated(shown: Document, related: JsonObject): RelatedDocument {
  // What conceals or leaves out fields makes copies of plain members; so does this.
  return { ...shown, related };
}

function findRelated(
  include: Include,
  here: Query,
  document: Document,
  relations: Relations,
): { documents: Document[]; list: boolean } {
  if (include.by) return { documents: relations.find(include, document.id, include.limit).documents, list: true };
  const { ids, list } = idsOf(include, here, document);
  const found = ids
    .map((id) => relations.get(include, id))
    .filter((one): one is Document => one !== undefined && isTaken(include, one));
  return { documents: chooseListed(include, found), list };
}
