import { parseIncludes } from './include-text.js';
import { splitName } from './names.js';
import type { Include, Query } from './prepared-query.js';
import type { IncludesForm, IncludeForm } from './query-form.js';
import { QueryError } from './tree.js';

export const INCLUDE_LIMITS = { levels: 3, perLevel: 10, defaultLimit: 100, maxLimit: 1000 } as const;

/**
 * Reads the includes of one level, as text or as an object.
 *
 * @throws {QueryError}
 */
export function readIncludes(form: IncludesForm | string): IncludesForm {
  const forms = typeof form === 'string' ? parseIncludes(form) : form;
  if (Object.keys(forms).length > INCLUDE_LIMITS.perLevel) {
    throw new QueryError(
      `At most ${INCLUDE_LIMITS.perLevel} includes are allowed on one level.`,
      undefined,
      '/include',
    );
  }
  return forms;
}

/**
 * Prepares an include.
 *
 * @param make prepares the query of the related collection
 * @throws {QueryError} with the place of the error, within the include
 */
export function readInclude(
  name: string,
  form: IncludeForm,
  make: (form: Omit<IncludeForm, 'via' | 'by'>) => Query,
): Include {
  if (!/^[a-z][A-Za-z0-9_-]{0,63}$/.test(name)) {
    throw new QueryError(
      'The name of an include has a lower-case letter and up to 63 more letters, digits, "_" and "-".',
    );
  }
  const { via, by, limit = INCLUDE_LIMITS.defaultLimit, ...rest } = form;
  if ((via === undefined) === (by === undefined)) {
    throw new QueryError(
      'An include needs either "via", a field of this document, or "by", a field of the related documents.',
    );
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
