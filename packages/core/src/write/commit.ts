import { AdjustError, applyAdjustments, type Adjustments } from './adjust.js';
import {
  DEFAULT_DOCUMENT_LIMITS,
  exceedsSize,
  findDataFault,
  isReservedId,
  formatTime,
  sizeFault,
  type DataFault,
  type Document,
  type DocumentLimits,
} from '../document/document.js';
import type { JsonObject, JsonValue } from '../json/json.js';
import {
  applyPatch,
  PatchError,
  PatchWork,
  PatchWorkError,
  PATCH_WORK_LIMIT,
  type JsonPatch,
} from '../json/json-patch.js';
import { mergePatch } from '../json/merge-patch.js';
import type { Rights, RuleName } from '../policy/policy.js';

/** What must hold of a document before a write to it; everything stated must hold. */
export interface Condition {
  /** True: the document must exist. False: it must not. */
  exists?: boolean;
  /** Its version must be one of these. */
  versionIn?: readonly number[];
  /** Its version must be none of these. */
  versionNotIn?: readonly number[];
}

/** One write of a commit, with its id fixed beforehand, so that applying it depends on the store alone. */
export type Write = {
  collection: string;
  id: string;
  condition?: Condition;
  /** The hash of the content that goes with it, where it is the description of a file. */
  content?: string;
  /**
   * When the document ends, in milliseconds since 1970; null: it does not. Left out, a put or create leaves a document that does
   * not end, and other writes keep the end that it has.
   */
  expires?: number | null;
  /** The same as a duration from the time of the commit, in milliseconds. */
  ttlMs?: number;
} & (
  | {
      kind: 'put';
      data: JsonObject;
      /**
       * The node whose connection the document lives as long as. A document that is held already and has the same data stays as it
       * is, in its version too.
       */
      holdFor?: string;
    }
  | { kind: 'merge'; data: JsonObject }
  /** `keepExisting`: if the document exists, it stays unchanged and the commit continues. */
  | { kind: 'create'; data: JsonObject; keepExisting?: boolean }
  | { kind: 'patch'; ops: JsonPatch }
  | { kind: 'adjust'; by: Adjustments }
  /** `ifExpired`: if the document has not ended by the time of the commit, it stays, and the commit continues. */
  /** `releasedBy`: if this node does not hold the document, or others do, it stays, and the commit continues. */
  | { kind: 'delete'; ifExpired?: boolean; releasedBy?: string }
);

/** A document that the commit is based on, with the version that was read; 0 if it did not exist. */
export interface Read {
  collection: string;
  id: string;
  version: number;
}

/** Who makes a commit, as the journal keeps it. */
export interface Author {
  /**
   * The kind of credential. `open` and `anonymous`: none was sent. `expiry`: the store ends a document. `presence`: so it does when a
   * connection has ended.
   */
  kind: 'key' | 'token' | 'account' | 'anonymous' | 'open' | 'expiry' | 'presence';
  /** The name of the key, the `sub` of the token, the id of the account. */
  name: string;
}

/** An atomic group of writes, with everything fixed that must not depend on where it is applied. */
export interface Commit {
  /** Chosen by who sent it. Another commit of the same author with this id is not applied again. */
  id?: string;
  /** Within what its id is one of its kind; left out, the author. */
  idSpace?: string;
  /** Distinguishes contents; belongs to `id`. */
  digest?: string;
  /** Milliseconds since 1970. */
  timeMs: number;
  author: Author;
  /** By what right it is made; left out, everything is allowed. */
  rights?: Rights;
  writes: Write[];
  /** What must still be as it was read. */
  reads?: Read[];
}

/** A document before and after a commit, or a row of commits; undefined where it does not exist. */
export interface DocumentChange {
  collection: string;
  id: string;
  before: Document | undefined;
  after: Document | undefined;
}

/** Why a commit cannot be applied. Nothing of it is then. */
export interface Refusal {
  kind:
    | 'no-such-document'
    | 'document-exists'
    | 'version-mismatch'
    | 'test-failed'
    | 'patch-failed'
    | 'adjust-failed'
    | 'bad-document'
    | 'bad-id'
    | 'too-large'
    | 'commit-too-costly'
    | 'schema-violation'
    | 'not-allowed';
  collection: string;
  id: string;
  /** The version in the store now; 0 where there is no document. */
  currentVersion: number;
  /** The version that was expected, where it was one. */
  expectedVersion?: number;
  /** The place within the document's data, a JSON Pointer (RFC 6901), where one place is at fault. */
  pointer?: string;
  /** All that does not fit a schema. */
  violations?: { pointer: string; detail: string; rule: string }[];
  /** The rule of the policy that refused, where one did. */
  rule?: RuleName;
  detail: string;
}

/** The latest end that a document can have, so that all times have the same form: the last millisecond of 9999. */
const LATEST_MS = Date.UTC(10_000, 0) - 1;

/** Writes the address of a document: `balloons/bl-17`. */
export function formatAddress(collection: string, id: string): string {
  return `${collection}/${id}`;
}

/** Splits a document's address, which must be a sound one, into collection and id. */
export function splitAddress(address: string): { collection: string; id: string } {
  const slash = address.indexOf('/');
  return { collection: address.slice(0, slash), id: address.slice(slash + 1) };
}

/** What one write does to its document. `kept`: nothing; the document stays as it is, in its version too. */
export type WriteOutcome = { after: Document | undefined; kept?: boolean } | { refusal: Refusal };

/**
 * Applies one write to its document. The outcome depends only on the arguments. Its condition is not checked here; see
 * {@link refuseUnmet}.
 *
 * @param current the present document; undefined if it does not exist
 * @param stamp the seq and the time of the commit
 * @param work counts the steps of all patches of the commit
 * @returns the document afterwards (undefined when deleted), or the refusal. The size after put, create and merge is
 *   not checked here, but by the caller that serialises the document.
 */
export function applyWrite(
  current: Document | undefined,
  write: Write,
  stamp: { seq: number; timeMs: number },
  limits: DocumentLimits = DEFAULT_DOCUMENT_LIMITS,
  work = new PatchWork(PATCH_WORK_LIMIT),
): WriteOutcome {
  const refuse = (kind: Refusal['kind'], detail: string, extra?: Partial<Refusal>): WriteOutcome => ({
    refusal: {
      kind,
      collection: write.collection,
      id: write.id,
      currentVersion: current?.version ?? 0,
      detail,
      ...extra,
    },
  });
  const address = formatAddress(write.collection, write.id);
  if (write.kind === 'delete' && write.ifExpired && !hasExpired(current, stamp.timeMs)) {
    return { after: current, kept: true };
  }
  if (write.kind === 'create' && current) {
    if (write.keepExisting) return { after: current, kept: true };
    return refuse('document-exists', `${address} exists already. Use put to replace it, or another id.`);
  }
  if (write.kind !== 'create' && write.kind !== 'put' && !current) {
    return refuse('no-such-document', `The document ${address} does not exist. Check the id, or use put to create it.`);
  }
  if (!current && isReservedId(write.id)) {
    return refuse('bad-id', `The id "${write.id}" is not allowed, because common JSON Patch packages refuse it.`);
  }
  if (write.kind === 'delete') return { after: undefined };
  try {
    const data = nextData(current?.data, write, stamp.timeMs, limits, work);
    // Of a patch without operations, or with tests alone, nothing comes.
    if (write.kind === 'patch' && data === current!.data && !movesEnd(write)) return { after: current, kept: true };
    const updated = formatTime(stamp.timeMs);
    const created = current?.created ?? updated;
    const expires = endAfter(current, write, stamp.timeMs);
    const { id } = write;
    const after =
      expires === undefined
        ? { id, version: stamp.seq, created, updated, data }
        : { id, version: stamp.seq, created, updated, expires, data };
    return { after };
  } catch (error) {
    if (error instanceof PatchError) {
      const which = `operation ${error.index} of the patch`;
      return error.testFailed
        ? refuse('test-failed', `In ${address}, ${which}: ${error.message} Read it again, then retry.`, {
            pointer: error.path,
          })
        : refuse('patch-failed', `${address} cannot be changed by ${which}: ${error.message}`, { pointer: error.path });
    }
    if (error instanceof PatchWorkError) {
      return refuse('commit-too-costly', `The patch of ${address} ${error.message}`);
    }
    if (error instanceof AdjustError) {
      return refuse('adjust-failed', `In ${address}, ${error.message}`, { pointer: error.pointer });
    }
    if (error instanceof UnfitData) {
      const { kind, detail, pointer } = error.fault;
      return refuse(kind === 'too-large' ? 'too-large' : 'bad-document', detail, { pointer });
    }
    throw error;
  }
}

/** The end of a document in the form of a write: from a time (RFC 3339, or null for none) or a duration in seconds. */
export function readEnd({
  expires,
  ttl,
}: {
  expires?: string | null | undefined;
  ttl?: number | undefined;
}): Pick<Write, 'expires' | 'ttlMs'> {
  if (ttl !== undefined) return { ttlMs: Math.ceil(ttl * 1000) };
  return expires === undefined ? {} : { expires: expires === null ? null : Date.parse(expires) };
}

/** The end of a document, for a write that replaces it and keeps its end. */
export function keepEnd(document: Pick<Document, 'expires'> | undefined): { expires?: string } {
  return document?.expires === undefined ? {} : { expires: document.expires };
}

/** Whether a write says when its document ends, or that it does not. */
export function movesEnd({ expires, ttlMs }: Write): boolean {
  return expires !== undefined || ttlMs !== undefined;
}

/** When the document ends after a write, as RFC 3339; undefined if it does not. */
function endAfter(current: Document | undefined, write: Write, timeMs: number): string | undefined {
  const { expires, ttlMs, kind } = write;
  const endMs = ttlMs === undefined ? expires : timeMs + ttlMs;
  if (typeof endMs === 'number') return formatTime(Math.max(0, Math.min(endMs, LATEST_MS)));
  if (endMs === null) return undefined;
  return kind === 'put' || kind === 'create' ? undefined : current?.expires;
}

/** Whether a document has ended by a time. */
function hasExpired(document: Document | undefined, timeMs: number): boolean {
  return document?.expires !== undefined && document.expires <= formatTime(timeMs);
}

/** Raised when an operation leaves data that no document may have. */
class UnfitData extends Error {
  constructor(readonly fault: DataFault) {
    super(fault.detail);
  }
}

function nextData(
  data: JsonObject | undefined,
  write: Exclude<Write, { kind: 'delete' }>,
  timeMs: number,
  limits: DocumentLimits,
  work: PatchWork,
): JsonObject {
  switch (write.kind) {
    case 'create':
    case 'put':
      return write.data;
    case 'merge':
      return mergePatch(data, write.data) as JsonObject;
    case 'patch':
      return checkData(applyPatch(data!, write.ops, work), limits);
    case 'adjust':
      return checkData(applyAdjustments(data!, write.by, timeMs), limits);
  }
}

/** A patch can copy a value into itself repeatedly, so the size is checked before the whole document is traversed. */
function checkData(data: JsonValue, limits: DocumentLimits): JsonObject {
  if (exceedsSize(data, limits.sizeBytes)) throw new UnfitData(sizeFault(undefined, limits.sizeBytes)!);
  const fault = findDataFault(data, limits.depth);
  if (fault) throw new UnfitData(fault);
  return data as JsonObject;
}

/**
 * Folds the changes of several commits, oldest first, into one change a document: how it was before the first
 * and how it is after the last. Documents that were created and deleted in between are left out.
 */
export function netChanges(changes: Iterable<DocumentChange>): DocumentChange[] {
  const net = new Map<string, DocumentChange>();
  for (const change of changes) {
    const address = formatAddress(change.collection, change.id);
    const earlier = net.get(address);
    net.set(address, earlier ? { ...change, before: earlier.before } : change);
  }
  return [...net.values()].filter((change) => change.before || change.after);
}
