import { writeCursor, type Query } from '@uproar/core';
import type { WireQuery } from '@uproar/protocol';
import { isGoverned, type Identity } from '../identity/identity.js';
import type { ByteLease } from '../limits/byte-budget.js';
import { describeMisnamed, describeMissing, type ReadsWholeCollection } from '../reading/name-hints.js';
import { prepareReadable } from '../reading/prepare-query.js';
import { adviseIndex, summarize, type Reading, type Store } from '../store/index.js';
import type { Context } from './context.js';
import { costLimits, readScopeOf, wholeCollectionReader } from './identity-scope.js';

/** A query that reads this many documents, and this many times more than it returns, should get an index. */
const MANY_READ = 1000;
const READ_PER_RESULT = 20;

/**
 * Answers a query as the JSON text of a listing.
 *
 * @returns the text, and the cursor behind it where there is more
 * @throws {ProblemError} when it cannot be answered, or not for this identity
 */
export async function readListing(
  context: Pick<Context, 'store' | 'identities' | 'accessLimits' | 'budgets'>,
  identity: Identity,
  form: WireQuery,
  holder: string,
  lease: ByteLease,
): Promise<{ text: string; next: string | undefined }> {
  const { store } = context;
  const query = prepareReadable(form, false, store, readScopeOf(context, identity, holder));
  const limits = { ...costLimits(context, identity, holder), onBytes: (bytes: number) => lease.add(2 * bytes) };
  if (query.summary) {
    const { seq, state } = await summarize(store, query, limits);
    const notes = isGoverned(identity) ? [] : describeMisnamed(store, query, wholeCollectionReader(context, identity));
    const text = `{"seq":${seq},"documents":${JSON.stringify(state.documents())},"more":false${tailOf(undefined, notes)}}`;
    return { text, next: undefined };
  }
  const reading = await store.reader.read(query, query.limit!, limits);
  const next = reading.more ? writeCursor(reading.found.at(-1)!.document, query.order) : undefined;
  // Counts of hidden documents and names of collections are not revealed to restricted callers.
  const notes = isGoverned(identity) ? [] : notesFor(store, query, reading, wholeCollectionReader(context, identity));
  return { text: writeListing(query, reading, next, notes), next };
}

/** A result as the JSON text of a listing. */
export function writeListing(query: Query, reading: Reading, next?: string, notes: string[] = []): string {
  const documents = reading.found.map((found) => found.textFor(query)).join(',');
  return `{"seq":${reading.seq},"documents":[${documents}],"more":${reading.more}${tailOf(next, notes)}}`;
}

function tailOf(next: string | undefined, notes: readonly string[]): string {
  const tail = next === undefined ? '' : `,"next":${JSON.stringify(next)}`;
  return notes.length === 0 ? tail : `${tail},"notes":${JSON.stringify(notes)}`;
}

/** Hints for the person who asked: a name that is not there, an index that would help. */
function notesFor(
  store: Store,
  query: Query,
  { documentsRead, found }: Reading,
  seesAll: ReadsWholeCollection,
): string[] {
  if (!store.collections.get(query.from)) return [describeMissing(store, query.from, seesAll)];
  const notes = describeMisnamed(store, query, seesAll);
  // An index does not help if a name is misspelt.
  if (notes.length > 0) return notes;
  if (documentsRead < MANY_READ || documentsRead < READ_PER_RESULT * Math.max(1, found.length)) return [];
  const index = adviseIndex(query);
  const advice = index ? ` An index would help: uproar index create ${query.from} '${index}'` : '';
  return [`${documentsRead} documents were read for ${found.length}.${advice}`];
}
