import { parseIncludes } from './include-text.js';
import { splitName } from './names.js';
import type { Query, QueryForm } from './query.js';
import { QueryError } from './tree.js';

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

/** Related documents made ready to be found. */
export interface Include {
  readonly name: string;
  /** A field of the document here, or one of the documents there. */
  readonly via: readonly string[] | undefined;
  readonly by: readonly string[] | undefined;
  /** Which documents there are taken, in which order, how many, and what of them. */
  readonly query: Query;
  readonly limit: number;
}

export const INCLUDE_LIMITS = { levels: 3, perLevel: 10, defaultLimit: 100, maxLimit: 1000 } as const;

/**
 * Reads what is included on one level: from text, or as it is.
 *
 * @throws {QueryError}
 */
export function readIncludes(form: IncludesForm | string): IncludesForm {
  const forms = typeof form === 'string' ? parseIncludes(form) : form;
  if (Object.keys(forms).length > INCLUDE_LIMITS.perLevel) {
    throw new QueryError(
      `At most ${INCLUDE_LIMITS.perLevel} includes can stand beside each other.`,
      undefined,
      '/include',
    );
  }
  return forms;
}

/**
 * Makes an include ready.
 *
 * @param make makes ready what is asked of the collection there
 * @throws {QueryError} with the place at fault, within the include
 */
export function readInclude(
  name: string,
  form: IncludeForm,
  make: (form: Omit<IncludeForm, 'via' | 'by'>) => Query,
): Include {
  if (!/^[a-z][A-Za-z0-9_-]{0,63}$/.test(name)) {
    throw new QueryError(
      'The name of an include is a lower-case letter and up to 63 more letters, digits, "_" and "-".',
    );
  }
  const { via, by, limit = INCLUDE_LIMITS.defaultLimit, ...rest } = form;
  if ((via === undefined) === (by === undefined)) {
    throw new QueryError('It takes either "via", a field here, or "by", a field there.');
  }
  if (!Number.isInteger(limit) || limit < 1 || limit > INCLUDE_LIMITS.maxLimit) {
    throw new QueryError(`The limit is a whole number from 1 to ${INCLUDE_LIMITS.maxLimit}.`, undefined, '/limit');
  }
  return {
    name,
    via: via === undefined ? undefined : splitName(via),
    by: by === undefined ? undefined : splitName(by),
    query: make({ ...rest, limit }),
    limit,
  };
}
