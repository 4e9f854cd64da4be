import { z } from 'zod';
import {
  movesEnd,
  type Adjustments,
  type Commit,
  type JsonObject,
  type JsonPatch,
  type Rights,
  type Write,
} from '@uproar/core';

/** The version of the format of records. A node refuses records of a later one. 2: documents that end. 3: hooks, set-ups, and documents
 * that live as long as a connection. 4: usage, erasures and backups. */
export const RECORD_FORMAT = 4;

/** Milliseconds since 1970, at the node that proposed the record. Applying never lets time go back. */
const Time = z.int();

/** The SHA-256 of a secret, in base64url. */
const SecretHash = z.string();

const Author = z.object({
  kind: z.enum(['key', 'token', 'account', 'anonymous', 'open', 'expiry', 'presence']),
  name: z.string(),
});
const JsonObjectValue = z.custom<JsonObject>((value) => typeof value === 'object' && value !== null);

const Target = z.object({
  collection: z.string(),
  id: z.string(),
  condition: z
    .object({
      exists: z.boolean().optional(),
      versionIn: z.array(z.int()).optional(),
      versionNotIn: z.array(z.int()).optional(),
    })
    .optional(),
  content: z.string().optional(),
  expires: Time.nullable().optional(),
  ttlMs: z.int().optional(),
});

const WriteRecord: z.ZodType<Write> = z.discriminatedUnion('kind', [
  Target.extend({ kind: z.literal('put'), data: JsonObjectValue, holdFor: z.string().optional() }),
  Target.extend({ kind: z.literal('merge'), data: JsonObjectValue }),
  Target.extend({ kind: z.literal('create'), data: JsonObjectValue, keepExisting: z.boolean().optional() }),
  Target.extend({ kind: z.literal('patch'), ops: z.custom<JsonPatch>(Array.isArray) }),
  Target.extend({ kind: z.literal('adjust'), by: z.custom<Adjustments>((value) => typeof value === 'object') }),
  Target.extend({ kind: z.literal('delete'), ifExpired: z.boolean().optional(), releasedBy: z.string().optional() }),
]);

/** A commit: its writes, who makes it, and by what right. Ids and time are fixed. */
const CommitBody: z.ZodType<Commit> = z.object({
  id: z.string().optional(),
  idSpace: z.string().optional(),
  digest: z.string().optional(),
  timeMs: Time,
  author: Author,
  rights: z.custom<Rights>((value) => typeof value === 'object').optional(),
  writes: z.array(WriteRecord),
  reads: z.array(z.object({ collection: z.string(), id: z.string(), version: z.int() })).optional(),
});

/** The tokens of a session, as hashes. */
const SessionTokens = z.object({
  access: SecretHash,
  accessUntilMs: Time,
  refresh: SecretHash,
  refreshUntilMs: Time,
});

/** What a hook delivers, and where to. */
const HookDefinition = z.object({
  url: z.string(),
  collection: z.string(),
  where: z.string().optional(),
  kinds: z.array(z.enum(['created', 'updated', 'deleted'])),
  fields: z.string().optional(),
  format: z.enum(['structured', 'binary']),
  /** Whose view of the policy it delivers; without them it delivers everything. */
  claims: JsonObjectValue.optional(),
  parallel: z.int(),
  timeoutSeconds: z.int(),
});
export type HookDefinition = z.infer<typeof HookDefinition>;

/** How far a hook has come. */
const HookProgress = z.object({
  /** Every change up to this seq is delivered, except those of the open documents. */
  seq: z.int(),
  /** The id of a document, the seq of its first change that is not delivered, and since when delivering fails, or 0. */
  open: z.array(z.tuple([z.string(), z.int(), z.int()])),
  /** Changes after one seq and up to another that the journal had lost before they were delivered. */
  missed: z.object({ after: z.int(), upTo: z.int() }).optional(),
});
export type HookProgress = z.infer<typeof HookProgress>;

const PolicyRecord = z.object({
  kind: z.literal('policy'),
  timeMs: Time,
  text: z.string(),
  author: Author,
  note: z.string().optional(),
  /** The version that this one replaces. If another is in force, the record is refused. */
  ifVersion: z.int().optional(),
});

const SchemaRecord = z.object({
  kind: z.literal('schema'),
  timeMs: Time,
  collection: z.string(),
  mode: z.enum(['off', 'warn', 'enforce']),
  schema: JsonObjectValue,
  author: Author,
  note: z.string().optional(),
});

const SchemaRemoved = z.object({ kind: z.literal('schema-removed'), timeMs: Time, collection: z.string() });

const IndexCreated = z.object({
  kind: z.literal('index-created'),
  timeMs: Time,
  collection: z.string(),
  fields: z.string(),
});

const IndexRemoved = z.object({ kind: z.literal('index-removed'), timeMs: Time, number: z.int() });

const HookCreated = z.object({
  kind: z.literal('hook-created'),
  timeMs: Time,
  id: z.string(),
  name: z.string(),
  definition: HookDefinition,
  /** What deliveries are signed with. It is needed in clear. */
  secret: z.string(),
  /** Begins after this seq; by default, after the present one. */
  after: z.int().optional(),
});

const HookChanged = z.object({
  kind: z.literal('hook-changed'),
  timeMs: Time,
  id: z.string(),
  definition: HookDefinition.optional(),
  /** Pauses it, with the reason; null lets it go on. */
  paused: z.string().nullable().optional(),
  /** Goes on after this seq, whatever was delivered before. */
  after: z.int().optional(),
  /** Only if the hook is still in this run. */
  ifRun: z.int().optional(),
});

const HookRemoved = z.object({ kind: z.literal('hook-removed'), timeMs: Time, id: z.string() });

/** The identity, the collection, and the counts: requests, reads, examined, writes, deliveries, bytes sent. */
const UsageRow = z.tuple([z.string(), z.string(), z.int(), z.int(), z.int(), z.int(), z.int(), z.int()]);
export type UsageRow = z.infer<typeof UsageRow>;

/** What a set-up is made of. */
const SetupStep = z.discriminatedUnion('kind', [
  PolicyRecord,
  SchemaRecord,
  SchemaRemoved,
  IndexCreated,
  IndexRemoved,
  HookCreated,
  HookChanged,
  HookRemoved,
]);
export type SetupStep = z.infer<typeof SetupStep>;

/**
 * One entry of the log: everything that changes durable state. A record carries what is not in the state: time, ids,
 * random values, hashes of secrets, identity and claims. So applying it depends on the state and the record alone.
 */
export const LogRecord = z.discriminatedUnion('kind', [
  z.object({ kind: z.literal('commit'), commit: CommitBody }),
  /** The first record of a log: the ids of store and log, and the secret that signs links. Existing values stay. */
  z.object({ kind: z.literal('store'), timeMs: Time, id: z.string(), generation: z.string(), linkSecret: z.string() }),
  /** The limits that commits are evaluated with. */
  z.object({
    kind: z.literal('limits'),
    timeMs: Time,
    sizeBytes: z.int(),
    depth: z.int(),
    resultBytes: z.int(),
  }),
  PolicyRecord,
  SchemaRecord,
  SchemaRemoved,
  z.object({
    kind: z.literal('key-created'),
    timeMs: Time,
    id: z.string(),
    name: z.string(),
    hash: SecretHash,
    scope: z.enum(['admin', 'write', 'read']),
    collections: z.array(z.string()).optional(),
    expiresMs: Time.optional(),
    /** Only if the store has no key yet. */
    first: z.boolean().optional(),
  }),
  z.object({
    kind: z.literal('key-rotated'),
    timeMs: Time,
    id: z.string(),
    hash: SecretHash,
    /** Until when the replaced secret stays valid. */
    oldUntilMs: Time.optional(),
  }),
  z.object({ kind: z.literal('key-revoked'), timeMs: Time, id: z.string() }),
  z.object({
    kind: z.literal('account-created'),
    timeMs: Time,
    id: z.string(),
    /** In the form in which names are compared; a guest has none. */
    name: z.string().optional(),
    /** The salted hash of the password. */
    password: z.string().optional(),
    claims: JsonObjectValue,
  }),
  z.object({
    kind: z.literal('account-changed'),
    timeMs: Time,
    id: z.string(),
    /** Makes a guest an account with a name. */
    name: z.string().optional(),
    password: z.string().optional(),
    claims: JsonObjectValue.optional(),
    disabled: z.boolean().optional(),
    /** Ends the sessions of the account, except the one with this id; an empty text ends all. */
    endSessionsExcept: z.string().optional(),
  }),
  z.object({ kind: z.literal('account-removed'), timeMs: Time, id: z.string() }),
  /** Removes guests whose sessions have all expired. */
  z.object({ kind: z.literal('guests-removed'), timeMs: Time }),
  z.object({
    kind: z.literal('session-started'),
    timeMs: Time,
    id: z.string(),
    account: z.string(),
    ...SessionTokens.shape,
  }),
  /** The access token of a session was used, so the refresh token before it is spent. */
  z.object({ kind: z.literal('session-used'), timeMs: Time, access: SecretHash }),
  z.object({ kind: z.literal('session-refreshed'), timeMs: Time, token: SecretHash, ...SessionTokens.shape }),
  z.object({ kind: z.literal('session-ended'), timeMs: Time, id: z.string() }),
  HookCreated,
  HookChanged,
  z.object({
    kind: z.literal('hook-rotated'),
    timeMs: Time,
    id: z.string(),
    secret: z.string(),
    /** Until when deliveries are also signed with the replaced secret. */
    oldUntilMs: Time.optional(),
  }),
  HookRemoved,
  /** Several changes of the set-up, all or none. */
  z.object({ kind: z.literal('setup'), timeMs: Time, steps: z.array(SetupStep) }),
  /** Deliveries of hooks. They are ignored if the hook has begun another run. */
  z.object({
    kind: z.literal('hook-progress'),
    timeMs: Time,
    hooks: z.array(HookProgress.extend({ id: z.string(), run: z.int() })),
  }),
  IndexCreated,
  IndexRemoved,
  /** The usage of one node since its previous usage record. It counts for the day of `timeMs`. */
  z.object({
    kind: z.literal('usage'),
    timeMs: Time,
    rows: z.array(UsageRow),
    /** The maximum number of rows of a day; further usage is counted in one row. */
    maxRows: z.int(),
    /** How many days are kept, including the day of this record. */
    keptDays: z.int(),
  }),
  z.object({
    kind: z.literal('erasure-begun'),
    timeMs: Time,
    id: z.string(),
    author: Author,
    collection: z.string(),
    reason: z.string().optional(),
    /** Whether the ids of the documents are erased, too. */
    forgetsIds: z.boolean(),
  }),
  /** Erases documents in order, until `changes` changes of the journal have been emptied. */
  z.object({
    kind: z.literal('documents-erased'),
    timeMs: Time,
    erasure: z.string(),
    collection: z.string(),
    ids: z.array(z.string()),
    changes: z.int().min(1),
  }),
  /** Empties the idempotency records of commits whose documents were erased. It examines the next `limit` records. */
  z.object({
    kind: z.literal('idempotency-erased'),
    timeMs: Time,
    erasure: z.string(),
    collection: z.string(),
    limit: z.int().min(1),
  }),
  z.object({
    kind: z.literal('backup-made'),
    timeMs: Time,
    id: z.string(),
    author: Author,
    seq: z.int(),
    sizeBytes: z.int(),
    sha256: z.string(),
  }),
  /** A content was received, and is complete. */
  z.object({ kind: z.literal('blob-received'), timeMs: Time, sha256: z.string(), sizeBytes: z.int() }),
  /** Removes contents that no document uses, and that were not received again since. */
  z.object({
    kind: z.literal('blobs-removed'),
    timeMs: Time,
    blobs: z.array(z.object({ sha256: z.string(), received: z.int() })),
  }),
  /** Removes the commits up to a seq from the journal. */
  z.object({ kind: z.literal('journal-truncated'), timeMs: Time, seq: z.int() }),
  /** Removes changes of commits that are no longer in the journal, up to a number of them. */
  z.object({ kind: z.literal('journal-swept'), timeMs: Time, changes: z.int() }),
  /** Removes idempotency records older than a time, up to a number of them. */
  z.object({ kind: z.literal('idempotency-expired'), timeMs: Time, beforeMs: Time, limit: z.int() }),
]);
export type LogRecord = z.infer<typeof LogRecord>;

/** The record of one kind. */
export type RecordOf<Kind extends LogRecord['kind']> = Extract<LogRecord, { kind: Kind }>;

/** Writes records as a batch that another node can read: in the earliest format that has them, for nodes of earlier versions. */
export function encodeBatch(records: readonly LogRecord[]): string {
  const format = records.reduce((latest, record) => Math.max(latest, formatOf(record)), 1);
  return JSON.stringify({ format, records });
}

/** The kinds that the latest format has brought. */
const LATEST: ReadonlySet<string> = new Set([
  'usage',
  'erasure-begun',
  'documents-erased',
  'idempotency-erased',
  'backup-made',
]);

/** The earliest format that has a record. */
function formatOf(record: LogRecord): number {
  if (record.kind.startsWith('hook-') || record.kind === 'setup') return 3;
  if (LATEST.has(record.kind)) return 4;
  if (record.kind !== 'commit') return 1;
  const { writes } = record.commit;
  if (writes.some((write) => isHeld(write) || (write.kind === 'delete' && write.releasedBy !== undefined))) return 3;
  return writes.some((write) => movesEnd(write) || (write.kind === 'delete' && write.ifExpired === true)) ? 2 : 1;
}

const isHeld = (write: Write) => write.kind === 'put' && write.holdFor !== undefined;

/**
 * Reads a batch. The records are checked, and returned exactly as they were written, so that their hash is the same.
 *
 * @throws {RangeError} for a batch of a later format, and for one that does not have the form of records
 */
export function decodeBatch(text: string): LogRecord[] {
  const { format, records } = JSON.parse(text) as { format: unknown; records: unknown };
  if (typeof format !== 'number' || format > RECORD_FORMAT) {
    throw new RangeError(`The log has records of format ${String(format)}; this version reads up to ${RECORD_FORMAT}.`);
  }
  const checked = z.array(LogRecord).safeParse(records);
  if (!checked.success) throw new RangeError(`The log has a record of another form: ${z.prettifyError(checked.error)}`);
  return records as LogRecord[];
}

/** Records, with each set-up replaced by its steps. */
export function innerRecords(records: readonly LogRecord[]): readonly LogRecord[] {
  if (!records.some(({ kind }) => kind === 'setup')) return records;
  return records.flatMap((record) => (record.kind === 'setup' ? record.steps : [record]));
}
