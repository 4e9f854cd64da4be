import {
  nearNames,
  didYouMean,
  policyFilterFor,
  prepareQuery,
  QueryError,
  seesEverything,
  type Access,
  type Query,
  type QueryForm,
} from '@uproar/core';
import { WireQuery, problemError } from '@uproar/protocol';
import { checkIncludes, type Store } from '../store/index.js';
import { z } from 'zod';

/** The parameters of a query in an address. */
export const QueryParameters = z.looseObject({
  where: z.string().optional().describe("A condition in CQL2 text: `status = 'aloft' AND altitude > 300`."),
  order: WireQuery.shape.order,
  limit: z
    .string()
    .max(10)
    .optional()
    .describe('The maximum number of documents, 1 to 10000; default 500. `none` for watches, NDJSON and CSV.'),
  ordered: z
    .string()
    .optional()
    .meta({ enum: ['true', 'false'] })
    .describe('`true`: a watch carries the list of ids in order; see `Query`.'),
  after: WireQuery.shape.after,
  fields: WireQuery.shape.fields,
  include: z
    .string()
    .max(20_000)
    .optional()
    .describe(
      'Related documents to return with each document: `crew = crews via crewId; flights by balloonId order -start limit 3`.',
    ),
  summary: WireQuery.shape.summary,
  by: WireQuery.shape.by,
});

const KNOWN = ['where', 'order', 'limit', 'ordered', 'after', 'fields', 'include', 'summary', 'by'];

/**
 * Reads the parameters of an address as a query.
 *
 * @throws {ProblemError} `bad-request` for a parameter there is not
 */
export function queryFromParameters(from: string, parameters: z.infer<typeof QueryParameters>): WireQuery {
  const { limit, ordered, ...rest } = parameters;
  for (const name of Object.keys(parameters)) {
    if (KNOWN.includes(name)) continue;
    throw problemError(
      'bad-request',
      `There is no parameter "${name}".${didYouMean(nearNames(name, KNOWN))} The parameters are: ${KNOWN.join(', ')}.`,
      {
        parameter: name,
      },
    );
  }
  const query: WireQuery = { from, ...(rest as Partial<WireQuery>) };
  if (ordered !== undefined) {
    if (ordered !== 'true' && ordered !== 'false') {
      throw problemError('bad-request', '"ordered" is "true" or "false".', { parameter: 'ordered' });
    }
    query.ordered = ordered === 'true';
  }
  if (limit === undefined) return query;
  if (limit !== 'none' && !/^\d{1,5}$/.test(limit)) {
    throw problemError('bad-request', 'The limit is a whole number from 1 to 10000, or "none".', {
      parameter: 'limit',
    });
  }
  return { ...query, limit: limit === 'none' ? 'none' : Number(limit) };
}

/**
 * Prepares a query from the wire.
 *
 * @param mayBeEndless whether `limit: none` is accepted
 * @param accessTo the access of the caller to a collection; if left out, the query is unrestricted
 * @throws {ProblemError} `bad-query` with the place of the error, or `bad-cursor`
 */
export function prepareWireQuery(
  query: WireQuery,
  mayBeEndless: boolean,
  accessTo?: (collection: string) => Access,
): Query {
  if (query.limit === 'none' && !mayBeEndless) {
    throw problemError('bad-query', 'JSON results need a limit. Use NDJSON, CSV or a watch to get all documents.', {
      parameter: 'limit',
    });
  }
  try {
    return prepareQuery(query as QueryForm, accessTo && ((collection) => policyFilterFor(accessTo(collection))));
  } catch (error) {
    if (!(error instanceof QueryError)) throw error;
    const name = error.pointer === '/after' ? 'bad-cursor' : 'bad-query';
    const expected = error.expected.length > 0 ? [...error.expected] : undefined;
    const hint = expected ? ` Expected: ${expected.join(', ')}.` : '';
    throw problemError(name, error.message + hint, { position: error.position, pointer: error.pointer, expected });
  }
}

/** In whose name something is read. */
export interface QueryScope {
  /**
   * The access of the caller to a collection.
   *
   * @throws {ProblemError} `not-allowed` if it may read nothing
   */
  accessTo(collection: string): Access;
  /** As {@link accessTo}, without an error. */
  effectiveAccess(collection: string): Access;
}

/**
 * Prepares a query for a caller. Related documents are limited to what the caller may read.
 *
 * @throws {ProblemError} `not-allowed`, `bad-query`, `bad-cursor`, or `index-missing`
 */
export function prepareReadable(query: WireQuery, mayBeEndless: boolean, store: Store, scope: QueryScope): Query {
  const { from } = query;
  const access = scope.accessTo(from);
  const prepared = prepareWireQuery(query, mayBeEndless, (collection) =>
    collection === from ? access : scope.effectiveAccess(collection),
  );
  checkIncludes(prepared, store, ({ by, query: inner }) =>
    // Callers who do not see everything get no hints about names.
    seesEverything(scope.effectiveAccess(inner.from))
      ? didYouMean(store.fieldNames.of(inner.from).findNear(by!) ?? [])
      : '',
  );
  return prepared;
}
