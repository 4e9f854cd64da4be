import { SummaryState, type Query } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import type { Collections } from './collections.js';
import type { Reader } from './reader.js';
import type { ReadLimits } from './found.js';

/** The totals of a query with a summary, at one state of the store. */
export interface Summarized {
  seq: number;
  state: SummaryState;
  /** How many documents were read for it. */
  documentsRead: number;
}

interface Sources {
  collections: Collections;
  reader: Reader;
  log: { seq: number };
}

/** Summaries of up to this many documents are computed at once; larger ones with pauses. */
const SUM_AT_ONCE = 2000;

/** More groups than this are refused. */
export const MAX_GROUPS = 10_000;

/** Sums up the documents of a query, where that is possible without pausing; otherwise undefined. */
export function summarizeAtOnce({ collections, reader, log }: Sources, query: Query): Summarized | undefined {
  const state = new SummaryState(query);
  if (countsEverything(query)) {
    state.addMany(collections.get(query.from)?.documents ?? 0);
    return { seq: log.seq, state, documentsRead: 0 };
  }
  const reading = reader.readAtOnce(query, SUM_AT_ONCE);
  if (!reading || reading.more) return undefined;
  for (const { document } of reading.found) state.add(document);
  return { seq: reading.seq, state, documentsRead: reading.documentsRead };
}

/**
 * Sums up the documents of a query.
 *
 * @throws {ProblemError} `query-too-costly` when more would have to be read than may be, or there are too many groups
 */
export async function summarize(sources: Sources, query: Query, limits: ReadLimits): Promise<Summarized> {
  const atOnce = summarizeAtOnce(sources, query);
  if (atOnce) return atOnce;
  const state = new SummaryState(query);
  let seq = 0;
  for await (const slice of sources.reader.streamInSlices(query, limits, (at) => (seq = at))) {
    for (const { document } of slice) {
      state.add(document);
      if (state.size > MAX_GROUPS) {
        throw problemError(
          'query-too-costly',
          `There are more than ${MAX_GROUPS.toLocaleString('en-GB')} groups. Group by a field with fewer values, or select fewer documents.`,
        );
      }
    }
  }
  return { seq, state, documentsRead: state.counted };
}

/** Nothing but the number of all documents, which is known without reading any. */
function countsEverything({ where, summary }: Query): boolean {
  return (
    where === undefined &&
    summary!.by.length === 0 &&
    summary!.totals.every(({ total, path }) => total === 'count' && path === undefined)
  );
}
