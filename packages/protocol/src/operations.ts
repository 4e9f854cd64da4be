import { MATCHING_KINDS } from '@uproar/core';
import { z } from 'zod';
import { CollectionName, DocumentAddress, Seq } from './documents.js';
import { WireQuery } from './live.js';

/** The target of a watch: a query, a document, the list of collections, or the journal. */
export const Watched = z
  .object({
    query: WireQuery.optional(),
    doc: DocumentAddress.optional(),
    collections: z.literal(true).optional(),
    journal: z
      .object({ collection: CollectionName.optional(), doc: DocumentAddress.optional(), where: z.string().optional() })
      .optional(),
  })
  .meta({ id: 'Watched', description: 'One of `query`, `doc`, `collections` and `journal`.' });
export type Watched = z.infer<typeof Watched>;

/** One thing that a connection watches. */
export const ConnectionWatch = Watched.extend({
  commitsBehind: z.int().nonnegative().describe('Commits whose changes are not sent yet; 0 when it is up to date.'),
  behindMs: z.number().nonnegative().describe('For how long it has been behind.'),
}).meta({ id: 'ConnectionWatch' });
export type ConnectionWatch = z.infer<typeof ConnectionWatch>;

/** A connection that stays open. */
export const ConnectionInfo = z
  .object({
    id: z.string(),
    transport: z.enum(['socket', 'stream']).describe('A WebSocket, or an event stream.'),
    identity: z.string().nullable().describe('Who it is; null before it has said so.'),
    device: z.string().optional().describe('The name that the device has given. The service does not verify it.'),
    agent: z.string().optional().describe('The program, by its `User-Agent`.'),
    address: z.string(),
    since: z.iso.datetime(),
    sentBytes: z.int(),
    receivedBytes: z.int(),
    unreadBytes: z.int().describe('Sent by the service and not read by the client yet.'),
    watches: z.array(ConnectionWatch),
  })
  .meta({ id: 'Connection' });
export type ConnectionInfo = z.infer<typeof ConnectionInfo>;

/** The connections, those furthest behind first. */
export const ConnectionListing = z
  .object({
    connections: z.array(ConnectionInfo),
    total: z.int().describe('How many there are, of which `limit` may show a part.'),
    found: z.int().describe('The number of matching connections.'),
    seq: Seq,
  })
  .meta({ id: 'ConnectionListing' });
export type ConnectionListing = z.infer<typeof ConnectionListing>;

/** The cost of a view since it was opened. */
export const ViewCost = Watched.extend({
  view: z.string(),
  watchers: z.int(),
  matchedBy: z
    .enum(MATCHING_KINDS)
    .describe('How changes find the view: by values, ranges, areas or texts, or by testing every change.'),
  since: z.iso.datetime(),
  tested: z.int().describe('Groups of changes that it was tested against.'),
  changed: z.int().describe('Groups of changes that changed the view.'),
  deliveries: z.int().describe('Events sent, counted for each watcher.'),
  sentBytes: z.int().describe('The approximate size of these events, in bytes.'),
  milliseconds: z.number().describe('Time spent on computing and sending the changes.'),
}).meta({ id: 'ViewCost' });
export type ViewCost = z.infer<typeof ViewCost>;

/** Queries of one form that took long. */
export const SlowQuery = z
  .object({
    from: CollectionName,
    where: z.string().nullable().describe('The last condition; the others differ only in values.'),
    order: z.string().nullable(),
    count: z.int(),
    slowestMs: z.number(),
    meanMs: z.number(),
    documentsRead: z.int().nullable().describe('For the last query; null if it was streamed.'),
    documentsReturned: z.int(),
    index: z.string().nullable().describe('The index that was used.'),
    advice: z.string().optional().describe('What would help.'),
    last: z.iso.datetime(),
  })
  .meta({ id: 'SlowQuery' });
export type SlowQuery = z.infer<typeof SlowQuery>;

const Percentiles = z
  .object({ p50: z.number(), p95: z.number(), p99: z.number() })
  .nullable()
  .describe('In milliseconds; null where nothing happened.');

/** What happened in one second, and how things stood at its end. */
export const Sample = z
  .object({
    time: z.iso.datetime(),
    commits: z.int(),
    writes: z.int(),
    refusals: z.int().describe('Commits that were refused.'),
    requests: z.int(),
    deliveries: z.int().describe('Events sent to watchers.'),
    deliveredBytes: z.int(),
    commitMs: Percentiles.describe('From the arrival of a commit to its answer.'),
    deliveryMs: Percentiles.describe(
      'From the sync until a group of commits is written to the sockets of all watchers.',
    ),
    requestMs: Percentiles.describe('From the arrival of a request to the end of its answer.'),
    loopDelayMs: z.number().describe('The longest delay of the event loop.'),
    connections: z.int(),
    views: z.int(),
    waiting: z.int().describe('Commits in the queue.'),
    memoryBytes: z.int(),
    heapBytes: z.int(),
    storeBytes: z.int().describe('The file of the store and its write-ahead log.'),
    seq: Seq,
  })
  .meta({ id: 'Sample' });
export type Sample = z.infer<typeof Sample>;

/** The samples of the last quarter of an hour, and what the journal spans. */
/** The memory held for clients, and the requests refused or ended because a budget was exhausted. */
export const BudgetUse = z
  .object({
    heldBytes: z.int().describe('Memory for results in progress, states of watches, and unread responses.'),
    processBytes: z.int().describe('The limit for all identities together.'),
    identityBytes: z.int().describe('The limit for one identity.'),
    holders: z
      .array(z.object({ holder: z.string(), heldBytes: z.int() }))
      .describe('The largest holders: identities, and addresses of callers without a key. At most 20.'),
    sockets: z.int().describe('Open connections, including those without a request.'),
    longReads: z.object({ running: z.int(), waiting: z.int() }),
    refused: z
      .object({ identity: z.int(), process: z.int() })
      .describe('Requests refused since the start, by exhausted budget.'),
    ended: z.record(z.string(), z.int()).describe('Connections and watches ended since the start, by reason.'),
  })
  .meta({ id: 'BudgetUse' });
export type BudgetUse = z.infer<typeof BudgetUse>;

export const MetricsReport = z
  .object({
    samples: z.array(Sample).describe('One sample per second, the oldest first.'),
    started: z.iso.datetime(),
    version: z.string(),
    journal: z.object({ first: Seq, last: Seq, from: z.iso.datetime().nullable(), sizeBytes: z.int() }),
    connectionLimit: z.int(),
    budgets: BudgetUse,
    machine: z
      .object({
        node: z.string().describe('The version of Node.js.'),
        platform: z.string(),
        diskFreeBytes: z.int().describe('The free space on the disk of the store.'),
        diskBytes: z.int(),
        openFiles: z.int().nullable().describe('Files and sockets that the process has open.'),
        openFilesLimit: z.int().nullable().describe('The limit for open files; null if unknown.'),
      })
      .describe('What the service runs on.'),
  })
  .meta({ id: 'MetricsReport' });
export type MetricsReport = z.infer<typeof MetricsReport>;
