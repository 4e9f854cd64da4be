import { pipeline, Readable } from 'node:stream';
import type { ByteLease } from '../../limits/byte-budget.js';
import { tooManyBytes } from '../../limits/costs.js';
import { describeMissing } from '../../reading/name-hints.js';
import { formatAddress, joinName, valueOfField, type Document, type JsonValue, type Query } from '@uproar/core';
import { type WireQuery, problemError } from '@uproar/protocol';
import accepts from 'accepts';
import { stringify } from 'csv-stringify';
import type { FastifyReply, FastifyRequest } from 'fastify';
import { summarize, type ReadLimits, type Store } from '../../store/index.js';
import { isGoverned, type Identity } from '../../identity/identity.js';
import { costLimits, wholeCollectionReader, readScopeOf } from '../../requests/identity-scope.js';
import type { Context } from '../../requests/context.js';
import { answerWithWatch, type StreamContext } from '../../event-stream/event-stream.js';
import { readListing } from '../../requests/read-listing.js';
import { prepareReadable } from '../../reading/prepare-query.js';

/** What queries are answered in. */
export const QUERY_FORMATS = ['application/json', 'application/x-ndjson', 'text/csv', 'text/event-stream'];

/** The maximum size of all column names of a CSV, in bytes. */
const MAX_COLUMN_BYTES = 1024 * 1024;

/** A result is counted for this long after it was handed over; then it counts as unread. */
const HANDED_OVER_MS = 1000;

/**
 * Opens a lease for the memory of a response.
 *
 * @throws {ProblemError} `budget-exceeded` when the budget is exhausted
 */
export function leaseFor(
  { bytes }: Pick<Context, 'bytes'>,
  { holder }: FastifyRequest,
  { raw }: FastifyReply,
): ByteLease {
  bytes.check(holder);
  const lease = bytes.open(holder);
  raw.once('close', () => lease.release());
  raw.once('prefinish', () => setTimeout(() => lease.release(), HANDED_OVER_MS).unref());
  return lease;
}

/** A stream of text that takes only a little ahead of its reader, and ends its source when the reader goes. */
export function bytesFrom(texts: AsyncIterable<string>): Readable {
  return Readable.from(texts, { objectMode: false, highWaterMark: 64 * 1024 });
}

/** Answers a query in the format that the request accepts: JSON, NDJSON, CSV or a watch. */
export async function answerQuery(
  context: StreamContext & Pick<Context, 'bytes'>,
  request: FastifyRequest,
  reply: FastifyReply,
  form: WireQuery,
): Promise<FastifyReply> {
  const format = chooseFormat(request);
  if (format === 'text/event-stream') {
    answerWithWatch(context, request, reply, { query: form });
    return reply;
  }
  if (format === 'application/json') {
    const lease = leaseFor(context, request, reply);
    const { text, next } = await readListing(context, request.identity, form, request.holder, lease);
    if (next !== undefined && request.method === 'GET') {
      const address = new URL(request.url, 'http://store');
      address.searchParams.set('after', next);
      reply.header('link', `<${address.pathname}${address.search}>; rel="next"`);
    }
    return reply.type('application/json; charset=utf-8').send(text);
  }
  const query = prepareReadable(form, true, context.store, readScopeOf(context, request.identity, request.holder));
  const limits = costLimits(context, request.identity, request.holder);
  if (format === 'application/x-ndjson') return sendLines(reply, context.store, query, limits);
  return sendCsv(reply, context.store, query, limits);
}

function chooseFormat(request: FastifyRequest): string {
  const type = accepts(request.raw).type(QUERY_FORMATS);
  if (type === false) {
    throw problemError(
      'not-acceptable',
      `The format "${request.headers.accept}" is not available. Accept one of ${QUERY_FORMATS.join(', ')}.`,
      {
        parameter: 'Accept',
      },
    );
  }
  return String(type);
}

function sendLines(reply: FastifyReply, store: Store, query: Query, limits: ReadLimits): FastifyReply {
  async function* lines() {
    if (query.summary) {
      const { state } = await summarize(store, query, limits);
      for (const group of state.documents()) yield JSON.stringify(group) + '\n';
    } else for await (const found of store.reader.stream(query, limits)) yield found.textFor(query) + '\n';
  }
  return reply.type('application/x-ndjson').send(bytesFrom(lines()));
}

/**
 * CSV with a header (RFC 4180). Without `fields`, the columns are the fields that any of the documents has, which takes a
 * reading of its own.
 */
async function sendCsv(reply: FastifyReply, store: Store, query: Query, limits: ReadLimits): Promise<FastifyReply> {
  if (query.includes.length > 0) {
    throw problemError('bad-query', 'CSV cannot contain related documents. Request JSON or NDJSON.', {
      pointer: '/include',
    });
  }
  // Groups of a summary have an id that is made for watches; in a table their values say it all.
  const ids = query.summary ? [] : ['id'];
  const columns = await columnsOf(store, query, limits);
  const writer = stringify({ header: true, columns: [...ids, ...columns.map(nameColumn)], escape_formulas: false });
  async function* rows() {
    for await (const document of shownDocuments(store, query, limits))
      yield [...ids.map(() => document.id), ...columns.map((path) => cellOf(document, path))];
  }
  // When the reader disconnects, the rows end too and release their memory.
  pipeline(Readable.from(rows(), { highWaterMark: 1 }), writer, () => undefined);
  return reply.type('text/csv; charset=utf-8').send(writer);
}

async function columnsOf(store: Store, query: Query, limits: ReadLimits): Promise<string[][]> {
  if (query.summary) {
    const { by, totals } = query.summary;
    return [...by.map((path) => [...path]), ...totals.map(({ name }) => [name])];
  }
  if (query.fields) return query.fields.map((path) => [...path]);
  const names = new Set<string>();
  let bytes = 0;
  for await (const { data } of shownDocuments(store, query, limits))
    for (const name of Object.keys(data)) {
      if (names.has(name)) continue;
      names.add(name);
      if ((bytes += name.length + 50) > MAX_COLUMN_BYTES)
        throw tooManyBytes('The header of this CSV', MAX_COLUMN_BYTES);
    }
  return [...names].map((name) => [name]);
}

async function* shownDocuments(store: Store, query: Query, limits: ReadLimits): AsyncGenerator<Document> {
  if (query.summary) yield* (await summarize(store, query, limits)).state.documents();
  else for await (const { document } of store.reader.stream(query, limits)) yield query.show(document);
}

/** Totals stand as they are written; names of fields as in queries. */
function nameColumn(path: string[]): string {
  return path.length === 1 && path[0]!.endsWith(')') ? path[0]! : joinName(path);
}

function cellOf(document: Document, path: string[]): string {
  const value: JsonValue | undefined = valueOfField(document, path);
  if (value === undefined || value === null) return '';
  return typeof value === 'string' ? value : JSON.stringify(value);
}

/** Describes a document that does not exist. */
export function describeAbsent(
  context: Pick<Context, 'store' | 'identities'>,
  identity: Identity,
  collection: string,
  id: string,
): string {
  const { store } = context;
  return isGoverned(identity) || store.collections.get(collection)
    ? `The document ${formatAddress(collection, id)} does not exist.`
    : describeMissing(store, collection, wholeCollectionReader(context, identity));
}
