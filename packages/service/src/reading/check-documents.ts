import { prepareQuery } from '@uproar/core';
import { createProblem, type Problem, type SchemaReport } from '@uproar/protocol';
import type { SchemaValidator } from '../state/compile-schema.js';
import { changesAfter, type Store } from '../store/index.js';

const MAX_EXAMPLES = 100;

/** Checks all documents of a collection against a schema. */
export async function checkDocuments(
  store: Store,
  collection: string,
  validate: SchemaValidator,
): Promise<SchemaReport> {
  const report: SchemaReport = { seq: 0, documents: 0, violations: 0, examples: [] };
  const query = prepareQuery({ from: collection, limit: 'none' });
  for await (const { document, stored } of store.reader.stream(query, {}, (seq) => (report.seq = seq))) {
    report.documents++;
    const violations = validate(document.data, stored.data.length);
    if (violations.length === 0) continue;
    report.violations++;
    if (report.examples.length < MAX_EXAMPLES) report.examples.push({ id: document.id, violations });
  }
  return report;
}

/**
 * Checks whether a schema can be enforced: all documents, and finally those written during the check, so that none is missed.
 *
 * @returns how many documents were checked, and the problem `stored-violations` if some do not fit
 */
export async function checkBeforeEnforcing(
  store: Store,
  collection: string,
  validate: SchemaValidator,
): Promise<{ documents: number; problem?: Problem }> {
  const { seq, documents, violations, examples } = await checkDocuments(store, collection, validate);
  const changes = changesAfter(store, collection, seq);
  if (!changes) return checkBeforeEnforcing(store, collection, validate);
  const since = changes.filter(({ after }) => after && validate(after.data).length > 0);
  const ids = [...new Set([...examples.map(({ id }) => id), ...since.map(({ id }) => id)])];
  if (ids.length === 0) return { documents };
  const problem = createProblem(
    'stored-violations',
    `${Math.max(violations, ids.length)} documents of ${collection} do not fit: ${ids.slice(0, 5).join(', ')}${ids.length > 5 ? ', …' : ''}. Correct them first (uproar schema check ${collection} lists them), or set "anyway".`,
  );
  return { documents, problem };
}
