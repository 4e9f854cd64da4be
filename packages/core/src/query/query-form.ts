import type { JsonObject } from '../json/json.js';

/** A query as it is asked: everything but `from` may be left out. */
export interface QueryForm {
  from: string;
  /** A condition in CQL2 text, or in CQL2 JSON. */
  where?: string | JsonObject | boolean;
  /** Fields to order by, `-` before one for descending: `-altitude,name`. */
  order?: string;
  limit?: number | 'none';
  /** The cursor `next` of the result before. */
  after?: string;
  /** The fields wanted: `name,pilot.name`. */
  fields?: string;
  /** Related documents to be shown with each: as text, or by name. */
  include?: IncludesForm | string;
  /** Totals instead of documents: `count(),sum(passengers)`. */
  summary?: string;
  /** The fields whose values make a group of a summary: `status`. */
  by?: string;
}

/** Related documents as they are asked for: exactly one of `via` and `by` says how they are related. */
export interface IncludeForm extends Pick<QueryForm, 'from' | 'where' | 'order' | 'fields' | 'include'> {
  /** A field here that holds an id there, or a list of ids. */
  via?: string;
  /** A field there that holds this document's id. */
  by?: string;
  /** The most documents for each one here, 1 to 1000; 100 if not given. */
  limit?: number;
}

/** What is included, by the name it is shown under. */
export type IncludesForm = Readonly<Record<string, IncludeForm>>;
