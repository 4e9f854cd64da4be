import { formatTime, type Document } from './document.js';
import type { JsonObject } from './json.js';
import { mergePatch } from './merge-patch.js';

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
export type Write = { collection: string; id: string; condition?: Condition } & (
  { kind: 'create' | 'put' | 'merge'; data: JsonObject } | { kind: 'delete' }
);

/** Who makes a commit, as the journal keeps it. */
export interface Author {
  /** The kind of credential: so far always a key. */
  kind: 'key';
  name: string;
}

/** An atomic group of writes, with everything fixed that must not depend on where it is applied. */
export interface Commit {
  /** Chosen by who sent it; names the commit. */
  id?: string;
  /** Milliseconds since 1970. */
  timeMs: number;
  author: Author;
  writes: Write[];
}

/** A document before and after a commit, or a row of commits; undefined where it does not exist. */
export interface DocumentChange {
  collection: string;
  id: string;
  before: Document | undefined;
  after: Document | undefined;
}

/** Why a write cannot be applied. The whole commit is refused with it. */
export interface Refusal {
  kind: 'no-such-document' | 'document-exists' | 'version-mismatch';
  collection: string;
  id: string;
  /** The version in the store now; 0 where there is no document. */
  currentVersion: number;
  detail: string;
}

/** Writes the address of a document: `balloons/bl-17`. */
export function formatAddress(collection: string, id: string): string {
  return `${collection}/${id}`;
}

/** Splits a document's address, which must be a sound one, into collection and id. */
export function splitAddress(address: string): { collection: string; id: string } {
  const slash = address.indexOf('/');
  return { collection: address.slice(0, slash), id: address.slice(slash + 1) };
}

/**
 * Applies one write to the document it is about.
 *
 * @param current the document now; undefined where there is none
 * @param stamp the seq and the time of the commit
 * @returns the document afterwards (undefined when deleted), or the reason why nothing may be written
 */
export function applyWrite(
  current: Document | undefined,
  write: Write,
  stamp: { seq: number; timeMs: number },
): { after: Document | undefined } | { refusal: Refusal } {
  const refuse = (kind: Refusal['kind'], detail: string) => ({
    refusal: { kind, collection: write.collection, id: write.id, currentVersion: current?.version ?? 0, detail },
  });
  const address = formatAddress(write.collection, write.id);
  const unmet = write.condition && findUnmet(write.condition, current);
  if (unmet) return refuse('version-mismatch', `${address} ${unmet}. Read it again and decide anew.`);
  if (write.kind === 'create' && current) {
    return refuse('document-exists', `${address} exists already. Use put to replace it, or another id.`);
  }
  if ((write.kind === 'merge' || write.kind === 'delete') && !current) {
    return refuse('no-such-document', `There is no document ${address}. Check the id, or use put to create it.`);
  }
  if (write.kind === 'delete') return { after: undefined };
  const updated = formatTime(stamp.timeMs);
  const data = write.kind === 'merge' ? (mergePatch(current?.data, write.data) as JsonObject) : write.data;
  return { after: { id: write.id, version: stamp.seq, created: current?.created ?? updated, updated, data } };
}

function findUnmet(condition: Condition, current: Document | undefined): string | undefined {
  const version = current?.version ?? 0;
  const state = current ? `has version ${version}` : 'does not exist';
  if (condition.exists === true && !current) return 'was expected to exist, but does not';
  if (condition.exists === false && current) return `was expected not to exist, but has version ${version}`;
  if (condition.versionIn && !condition.versionIn.includes(version)) {
    return `was expected to have version ${condition.versionIn.join(' or ') || '(none that can be)'}, but ${state}`;
  }
  if (condition.versionNotIn && current && condition.versionNotIn.includes(version)) {
    return `was expected not to have version ${version}, but has`;
  }
  return undefined;
}

/**
 * Folds the changes of several commits, oldest first, into one change a document: how it was before the first
 * and how it is after the last. Documents that were created and deleted on the way drop out.
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
