import { formatAddress, formatTime, isCollectionName, splitAddress, type Document, type Query } from '@uproar/core';
import { DocumentAddress, type JournalEvent, JournalPage, Problem, problemError } from '@uproar/protocol';
import accepts from 'accepts';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import type { JournalChange, JournalEntry, KeptChange } from '../../store/index.js';
import { formatIdentity, isRestricted, type Identity } from '../../identity/identity.js';
import { bytesFrom, leaseFor } from './send-query.js';
import { costLimits, readableAccess } from '../../requests/identity-scope.js';
import type { Context } from '../../requests/context.js';
import { EVENT_STREAM_HEADERS, headersOf, registerStream } from '../../event-stream/event-stream.js';
import { prepareWireQuery } from '../../reading/prepare-query.js';
import { kindOfChange, seeChange } from '../../reading/see-change.js';

const Parameters = z.strictObject(
  {
    after: z.coerce
      .number({ error: '"after" is a seq.' })
      .int()
      .nonnegative()
      .optional()
      .describe('Events after this seq. If left out in a stream: only new events.'),
    before: z
      .union([z.literal('now'), z.coerce.number().int().positive()], { error: '"before" is a seq, or "now".' })
      .optional()
      .describe('Instead of `after`: events before this seq, newest first; `now` starts at the newest. JSON only.'),
    doc: DocumentAddress.optional().describe('Only changes of this document.'),
    collection: z.string().refine(isCollectionName, { error: 'This is not a valid collection name.' }).optional(),
    where: z.string().optional().describe('A condition that the document must match before or after the change.'),
    identity: z
      .string()
      .max(200)
      .optional()
      .describe('Only changes by this identity, as events name it: `key:tower`, `account:…`.'),
    limit: z.coerce
      .number()
      .int()
      .min(1)
      .max(10_000)
      .default(500)
      .describe('The maximum number of commits to read for one page.'),
  },
  {
    error: (issue) =>
      issue.code === 'unrecognized_keys'
        ? `There is no parameter ${String(issue.keys)}. The parameters are: after, before, doc, collection, where, identity, limit.`
        : undefined,
  },
);

/** A page of the journal ends when its documents take more bytes than this, or half of what a result may take. */
const PAGE_BYTES = 8 * 1024 * 1024;

/** A commit up to this size is not measured for a page; 10,000 of them stay small. */
const SMALL_COMMIT = 2000;

/** Commits taken from the store at a time while events are streamed. */
const COMMITS_AT_ONCE = 200;

/** Sending the journal pauses after this many milliseconds, so that other requests are served. */
const SLICE_MS = 8;

/** The journal: what changed, by whom, from which value to which. */
export function serveJournal(
  app: FastifyInstance,
  context: SourceParts &
    Pick<Context, 'connections' | 'usage' | 'maxUnreadBytes' | 'bytes' | 'heartbeatMs' | 'closing'>,
): void {
  app.withTypeProvider<ZodTypeProvider>().get(
    '/v1/journal',
    {
      config: {
        described: {
          requestHeaders: ['Last-Event-ID'],
          responseTypes: ['application/json', 'application/x-ndjson', 'text/event-stream'],
        },
      },
      schema: {
        operationId: 'readJournal',
        tags: ['data'],
        summary: 'Read or follow the journal',
        description:
          'Changes after a seq as CloudEvents 1.0: one page as JSON, everything up to now as NDJSON, and a live stream with `Accept: text/event-stream`. ' +
          'An event stream resumes after its last event id.',
        querystring: Parameters,
        response: { 200: JournalPage, default: Problem },
      },
    },
    async (request, reply) => answer(context, request, reply as FastifyReply, request.query),
  );
}

async function answer(
  context: SourceParts &
    Pick<Context, 'connections' | 'usage' | 'maxUnreadBytes' | 'bytes' | 'heartbeatMs' | 'closing'>,
  request: FastifyRequest,
  reply: FastifyReply,
  parameters: z.infer<typeof Parameters>,
) {
  const { store } = context;
  const format = accepts(request.raw).type(['application/json', 'application/x-ndjson', 'text/event-stream']);
  if (format === false) {
    throw problemError(
      'not-acceptable',
      'The journal is available as application/json, application/x-ndjson or text/event-stream.',
      { parameter: 'Accept' },
    );
  }
  const { before } = parameters;
  if (before !== undefined && (parameters.after !== undefined || format !== 'application/json')) {
    throw problemError('bad-request', '"before" cannot be combined with "after" or a stream; it returns JSON.', {
      parameter: 'before',
    });
  }
  const source = new Source(context, parameters, request.identity, request.holder);
  const { first, last } = store.journal.bounds();
  if (before !== undefined) {
    const start = before === 'now' ? last + 1 : before;
    const lease = leaseFor(context, request, reply);
    const entries = await source.page({ before: start }, parameters.limit);
    lease.add(sizeOf(entries));
    const seq = entries.at(-1)?.seq ?? start;
    return { events: source.events(entries), seq, more: source.hasBefore(seq), first } as never;
  }
  const lastEvent = /^\d{1,15}$/.exec(String(request.headers['last-event-id'] ?? ''))?.[0];
  const after =
    lastEvent !== undefined
      ? Number(lastEvent)
      : (parameters.after ?? (format === 'text/event-stream' ? last : Math.max(0, first - 1)));
  if (after < first - 1) {
    throw problemError(
      'journal-truncated',
      `The journal starts after seq ${first - 1}; older changes have been removed. Use after=${first - 1}.`,
      { parameter: 'after' },
    );
  }
  if (format === 'application/json') {
    const lease = leaseFor(context, request, reply);
    const entries = await source.page({ after }, parameters.limit);
    lease.add(sizeOf(entries));
    const seq = entries.at(-1)?.seq ?? after;
    return { events: source.events(entries), seq, more: source.hasAfter(seq), first } as never;
  }
  if (format === 'application/x-ndjson') {
    return reply.type('application/x-ndjson').send(bytesFrom(lines(source, after, last)));
  }
  follow(context, request, reply, after, source);
  return reply;
}

async function* lines(source: Source, after: number, last: number) {
  for (let at = after; at < last;) {
    const entries = source.after(at, COMMITS_AT_ONCE).filter(({ seq }) => seq <= last);
    if (entries.length === 0) return;
    for (const entry of entries) {
      at = entry.seq;
      for (const event of source.events([entry])) yield JSON.stringify(event) + '\n';
    }
    await new Promise((resolve) => setImmediate(resolve));
  }
}

/** Sends the existing changes and then new ones. Of a reader, only the last sent seq is kept, however slow it is. */
function follow(
  context: Pick<Context, 'store' | 'connections' | 'usage' | 'maxUnreadBytes' | 'heartbeatMs' | 'closing'>,
  request: FastifyRequest,
  reply: FastifyReply,
  after: number,
  source: Source,
): void {
  const { store } = context;
  const response = reply.raw;
  const usage = context.usage.counterFor(formatIdentity(request.identity.author), source.collection);
  let suspended = false;
  let sent = after;
  let caughtUpMs = Date.now();
  const behindMs = () => (sent < store.log.seq ? Date.now() - caughtUpMs : 0);
  const stay = registerStream(context, request, response, {
    watches: () => [{ journal: source.described, commitsBehind: store.log.seq - sent, behindMs: behindMs() }],
    suspend: () => (suspended = true),
    resume: (identity) => {
      suspended = false;
      source.identity = identity;
      wake();
    },
  });
  reply.hijack();
  response.writeHead(200, { ...headersOf(reply), ...EVENT_STREAM_HEADERS });
  response.write(`retry: 2000\n: the journal after ${after}\n\n`);
  let scheduled = false;
  const pump = () => {
    scheduled = false;
    const sliceEnd = performance.now() + SLICE_MS;
    const mayGoOn = () =>
      !suspended && response.writableLength < context.maxUnreadBytes && !response.destroyed && !response.writableEnded;
    while (sent < store.log.seq && mayGoOn()) {
      if (performance.now() > sliceEnd) return wake();
      let entries: JournalEntry[];
      try {
        entries = source.after(sent, COMMITS_AT_ONCE);
      } catch (error) {
        return stay.fail(error);
      }
      for (const entry of entries) {
        for (const event of source.events([entry])) {
          const text = `event: ${event.type}\nid: ${entry.seq}\ndata: ${JSON.stringify(event)}\n\n`;
          usage.delivery(Buffer.byteLength(text));
          response.write(text);
        }
        sent = entry.seq;
        if (!mayGoOn()) break;
      }
      // The changes of one document may have ended long before the newest commit.
      if (entries.length === 0) sent = store.log.seq;
    }
    if (sent >= store.log.seq) caughtUpMs = Date.now();
  };
  const wake = () => {
    if (!scheduled) setImmediate(pump);
    scheduled = true;
  };
  const stopListening = store.log.onApplied(wake);
  const heartbeat = setInterval(() => response.write(`: still here\nid: ${sent}\n\n`), context.heartbeatMs);
  response.on('drain', wake);
  response.on('error', () => response.destroy());
  response.on('close', () => {
    clearInterval(heartbeat);
    stopListening();
    stay.leave();
  });
  pump();
}

type SourceParts = Pick<Context, 'accessLimits' | 'budgets' | 'identities' | 'store'>;

/** The part of the journal that is asked for. */
class Source {
  readonly #context: SourceParts;
  readonly #parameters: z.infer<typeof Parameters>;
  /** Whose scope it is seen through. */
  identity: Identity;
  readonly #query: Query | undefined;
  readonly #document: { collection: string; id: string } | undefined;

  constructor(
    context: SourceParts,
    parameters: z.infer<typeof Parameters>,
    identity: Identity,
    readonly holder: string,
  ) {
    this.identity = identity;
    this.#context = context;
    this.#parameters = parameters;
    const { where, collection, doc } = parameters;
    if (where !== undefined) {
      this.#query = prepareWireQuery({ from: collection ?? 'any', where, limit: 'none' }, true);
    }
    this.#document = doc === undefined ? undefined : splitAddress(doc);
    const named = collection ?? this.#document?.collection;
    if (named !== undefined) readableAccess(context, identity, named);
  }

  /** The collection that is asked for, or an empty text. */
  get collection(): string {
    return this.#parameters.collection ?? this.#document?.collection ?? '';
  }

  /** The part of the journal that is followed. */
  get described() {
    const { collection, doc, where } = this.#parameters;
    return { collection, doc, where };
  }

  /** A page of commits after or before a seq. Hidden changes do not influence where it ends. */
  async page(place: { before: number } | { after: number }, limit: number): Promise<JournalEntry[]> {
    const read = (from: number, most: number) => ('before' in place ? this.before(from, most) : this.after(from, most));
    let from = 'before' in place ? place.before : place.after;
    if (!isRestricted(this.identity) || this.#document) return read(from, limit);
    const page: JournalEntry[] = [];
    let bytes = 0;
    while (page.length < limit && bytes <= this.#pageBytes) {
      const entries = read(from, limit - page.length);
      if (entries.length === 0) break;
      const seen = entries.map((entry) => ({
        ...entry,
        changes: entry.changes.filter((change) => this.#see(change) !== undefined),
      }));
      for (const entry of seen) {
        page.push(entry);
        from = entry.seq;
        if (entry.sizeBytes > SMALL_COMMIT) bytes += this.#seenBytes([entry]);
        if (bytes > this.#pageBytes) break;
      }
      await new Promise((resolve) => setImmediate(resolve));
    }
    return page;
  }

  after(seq: number, limit: number): JournalEntry[] {
    return this.#document
      ? this.#ofDocument({ after: seq }, limit)
      : this.#context.store.journal.after(seq, limit, this.#pageBytes);
  }

  before(seq: number, limit: number): JournalEntry[] {
    return this.#document
      ? this.#ofDocument({ before: seq }, limit)
      : this.#context.store.journal.before(seq, limit, this.#pageBytes);
  }

  hasAfter(seq: number): boolean {
    return this.#document ? this.after(seq, 1).length > 0 : seq < this.#context.store.journal.bounds().last;
  }

  hasBefore(seq: number): boolean {
    return this.#document ? this.before(seq, 1).length > 0 : seq > this.#context.store.journal.bounds().first;
  }

  events(entries: readonly JournalEntry[]): JournalEvent[] {
    const { identity } = this.#parameters;
    return entries.flatMap((entry) => {
      if (identity !== undefined && formatIdentity(entry.author) !== identity) return [];
      const seen = entry.changes.flatMap((change) => this.#see(change) ?? []);
      return seen
        .map((change, place) => (isRestricted(this.identity) ? { ...change, place } : change))
        .filter((change) => this.#isMeant(change))
        .map((change) => describe(this.#context.store.id, entry, change));
    });
  }

  #see(change: JournalChange): JournalChange | undefined {
    return seeChange(this.#context.identities.accessOf(this.identity, change.collection), change);
  }

  /** The commits that changed the document. Those whose change is not seen are passed over, as if there were none. */
  #ofDocument(place: { before: number } | { after: number }, limit: number): JournalEntry[] {
    const { store } = this.#context;
    const info = store.collections.get(this.#document!.collection);
    if (!info) return [];
    const seen: JournalEntry[] = [];
    const most = costLimits(this.#context, this.identity, this.holder).documents ?? Infinity;
    let looked = 0;
    let rawBytes = 0;
    for (let from = place; seen.length < limit;) {
      const entries = store.journal.ofDocument(info.number, this.#document!.id, from, limit, this.#pageBytes);
      seen.push(...entries.filter(({ changes }) => changes.some((change) => this.#see(change) !== undefined)));
      if (entries.length === 0) break;
      rawBytes += entries.reduce((sum, { sizeBytes }) => sum + sizeBytes, 0);
      if (rawBytes > this.#pageBytes && this.#seenBytes(seen) > this.#pageBytes) break;
      if ((looked += entries.length) > most) {
        throw problemError('query-too-costly', 'The history of this document is too long. Request less of it.');
      }
      const { seq } = entries.at(-1)!;
      from = 'before' in place ? { before: seq } : { after: seq };
    }
    return seen.slice(0, limit);
  }

  get #pageBytes(): number {
    return Math.min(PAGE_BYTES, this.#context.budgets.resultBytes / 2);
  }

  /** The bytes of the visible part of commits. The end of a page must not reveal how much is hidden. */
  #seenBytes(entries: readonly JournalEntry[]): number {
    return entries.reduce(
      (sum, { changes }) => sum + JSON.stringify(changes.map((change) => this.#see(change))).length,
      0,
    );
  }

  #isMeant({ collection, before, after, erased }: KeptChange): boolean {
    if (this.#parameters.collection !== undefined && collection !== this.#parameters.collection) return false;
    if (erased) return !this.#query;
    return this.#meets(before) || this.#meets(after);
  }

  #meets(document: Document | undefined): boolean {
    if (document === undefined || !this.#query) return document !== undefined;
    // What may not be seen has been left out of the document already.
    return this.#query.matches({ document, claims: this.identity.claims }) === true;
  }
}

/** About how many bytes events take. */
function sizeOf(entries: readonly JournalEntry[]): number {
  return entries.reduce((sum, { sizeBytes }) => sum + 2 * sizeBytes, 0);
}

function describe(storeId: string, entry: JournalEntry, change: JournalChange): JournalEvent {
  return {
    specversion: '1.0',
    id: `${entry.seq}.${change.place}`,
    source: `/stores/${storeId}`,
    type: `uproar.document.${kindOfChange(change)}`,
    subject: formatAddress(change.collection, change.id),
    time: formatTime(entry.timeMs),
    datacontenttype: 'application/json',
    seq: entry.seq,
    ...(entry.id === undefined ? {} : { commitid: entry.id }),
    identity: formatIdentity(entry.author),
    data: { before: change.before ?? null, after: change.after ?? null },
  };
}
