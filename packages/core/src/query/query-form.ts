import type { JsonObject } from '../json/json.js';

/** A query as it is asked: everything but `from` may be left out. */
export interface QueryForm {
  from: string;
  /** A condition in CQL2 text, or in CQL2 JSON. */
  where?: string | JsonObject | boolean;
  /** Fields to sort by, with `-` for descending: `-altitude,name`. */
  order?: string;
  limit?: number | 'none';
  /** Whether a watch carries the order: the list of ids, kept in order by its changes. It needs a limit. */
  ordered?: boolean;
  /** The cursor `next` of the previous result. */
  after?: string;
  /** The fields wanted: `name,pilot.name`. */
  fields?: string;
  /** Related documents to return with each document: as text, or by name. */
  include?: IncludesForm | string;
  /** Totals instead of documents: `count(),sum(passengers)`. */
  summary?: string;
  /** The fields whose values make a group of a summary: `status`. */
  by?: string;
}

/** Related documents as they are asked for: exactly one of `via` and `by` says how they are related. */
export interface IncludeForm extends Pick<QueryForm, 'from' | 'where' | 'order' | 'fields' | 'include'> {
  /** A field of this document with the id of a related document, or a list of ids. */
  via?: string;
  /** A field of the related documents with the id of this document. */
  by?: string;
  /** The most documents for each one here, 1 to 1000; 100 if not given. */
  limit?: number;
}

/** The includes, by their name in the result. */
export type IncludesForm = Readonly<Record<string, IncludeForm>>;
