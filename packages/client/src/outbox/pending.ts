import {
  applyWrite,
  compile,
  DEFAULT_LIMIT,
  formatAddress,
  isDecidable,
  parseOrder,
  parseText,
  project,
  readEnd,
  readFields,
  splitAddress,
  type Document,
  type Predicate,
  type Write,
} from '@uproar/core';
import type { WatchTarget, WireCommit, WireWrite } from '@uproar/protocol';

/** A document, optionally with its related documents. */
type RelatedDocument = Document & { related?: unknown };

/** A write that the store has not acknowledged yet, in the form that the core applies. */
export interface PendingWrite {
  address: string;
  write: Write;
  atMs: number;
  /** The seq of its commit, once that is known: views of this seq and later hold it. */
  seq?: number;
}

/** The writes of a commit, whose creates have their ids, as pending ones. */
export function pendingWritesOf(commit: WireCommit, atMs: number): PendingWrite[] {
  return commit.writes.map((wire) => {
    const write = toWrite(wire);
    return { address: formatAddress(write.collection, write.id), write, atMs };
  });
}

/** A write as it goes over the wire in the form that the core applies; `create` must have its id. */
function toWrite(wire: WireWrite): Write {
  if ('create' in wire) {
    const { create: collection, id, data, keepExisting } = wire;
    return { kind: 'create', collection, id: id!, data, ...(keepExisting ? { keepExisting } : {}), ...readEnd(wire) };
  }
  if ('delete' in wire) return { kind: 'delete', ...splitAddress(wire.delete) };
  const end = readEnd(wire);
  if ('put' in wire) return { kind: 'put', ...splitAddress(wire.put), data: wire.data, ...end };
  if ('merge' in wire) return { kind: 'merge', ...splitAddress(wire.merge), data: wire.data, ...end };
  if ('patch' in wire) return { kind: 'patch', ...splitAddress(wire.patch), ops: wire.ops, ...end };
  return { kind: 'adjust', ...splitAddress(wire.adjust), by: wire.by, ...end };
}

/** Which documents a watch is about, as far as a client can tell. */
export class Scope {
  readonly collection: string | undefined;
  /** The most documents it shows. */
  readonly limit: number = Infinity;
  readonly #id: string | undefined;
  readonly #fields: string[][] | undefined;
  readonly #includes: boolean = false;
  /** Whether a document matches; undefined if only the service can decide. */
  readonly #matches: Predicate | undefined = () => true;

  constructor(target: WatchTarget) {
    if ('doc' in target) ({ collection: this.collection, id: this.#id } = splitAddress(target.doc));
    if (!('query' in target)) return;
    const { from, where, order, fields, limit = DEFAULT_LIMIT, after, include, summary } = target.query;
    // Totals are computed by the store.
    if (summary !== undefined) return;
    this.collection = from;
    this.#includes = include !== undefined;
    if (limit !== 'none') this.limit = limit;
    try {
      const condition = typeof where === 'string' && where !== '' ? parseText(where) : undefined;
      const isText = where === undefined || typeof where === 'string';
      if (!isText || after !== undefined || (condition && !isDecidable(condition))) this.#matches = undefined;
      else if (condition) this.#matches = compile(condition);
      this.#fields = fields === undefined ? undefined : readFields(fields, order ? parseOrder(order) : []);
    } catch {
      // The service reports the error.
      this.#matches = undefined;
    }
  }

  concerns({ collection, id }: { collection: string; id: string }): boolean {
    return collection === this.collection && (this.#id === undefined || id === this.#id);
  }

  /**
   * The document as the watch shows it with the pending writes; undefined if it is not shown. Related documents stay
   * unchanged.
   */
  show(document: Document, member: RelatedDocument | undefined): Document | undefined {
    // Projected documents, and conditions that only the service can evaluate, cannot be decided here; the document
    // keeps its place.
    const judged = this.#matches && (!this.#fields || !member);
    const belongs = judged ? this.#matches!({ document }) === true : member;
    if (!belongs) return undefined;
    const shown = project(document, this.#fields);
    return this.#includes ? ({ ...shown, related: member?.related ?? {} } as Document) : shown;
  }
}

/**
 * The effect of pending writes on documents.
 *
 * @param writes the pending writes that concern the watch, in the order of creation
 * @param base the last state of a document in the watch
 * @param known the last state of a document in any watch
 * @returns by id, each touched document as the watch shows it; undefined if it is not shown
 */
export function applyPending(
  writes: readonly PendingWrite[],
  scope: Scope,
  base: (id: string) => Document | undefined,
  known: (address: string) => Document | undefined,
): Map<string, Document | undefined> {
  const current = new Map<string, Document | undefined>();
  for (const { address, write, atMs } of writes) {
    const { id } = write;
    const before = current.has(id) ? current.get(id) : (base(id) ?? known(address));
    const outcome = applyWrite(before, write, { seq: before?.version ?? 0, timeMs: atMs });
    // What cannot be applied here may well be there; the service decides.
    if ('after' in outcome) current.set(id, outcome.after);
  }
  const shown = new Map<string, Document | undefined>();
  for (const [id, document] of current) shown.set(id, document && scope.show(document, base(id)));
  return shown;
}
