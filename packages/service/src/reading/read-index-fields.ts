import { formatTerm, parseOrder, QueryError, type OrderTerm } from '@uproar/core';
import { problemError } from '@uproar/protocol';

/**
 * Reads the fields of an index: `status,-altitude`.
 *
 * @throws {ProblemError} `bad-query`
 */
export function readIndexFields(fields: string): OrderTerm[] {
  try {
    const terms = parseOrder(fields);
    const names = terms.map((term) => formatTerm({ ...term, descending: false }));
    if (new Set(names).size < names.length) throw new QueryError('An index names each field once.');
    return terms;
  } catch (error) {
    if (!(error instanceof QueryError)) throw error;
    throw problemError('bad-query', error.message, { position: error.position, pointer: '/fields' });
  }
}
