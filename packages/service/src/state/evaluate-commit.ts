import {
  accessFor,
  applyPermitted,
  deepEqual,
  findStaleRead,
  formatAddress,
  groupDigits,
  FULL_ACCESS,
  PatchWork,
  PATCH_WORK_LIMIT,
  sees,
  sizeFault,
  withoutFields,
  type Access,
  type Commit,
  type Document,
  type DocumentChange,
  type Policy,
  type Refusal,
  type Write,
} from '@uproar/core';
import type { AppliedCommit, CommitOutcome } from './outcomes.js';
import { FILES, type BlobTable } from './blob-table.js';
import { hold, visibleSize, type Held, type HeldDocuments } from './held-documents.js';
import type { HoldTable } from './hold-table.js';
import type { SchemaTable } from './schema-table.js';
import type { CommitLimits } from './store-table.js';
import { describeStoredViolation, visibleViolations } from './schema-violations.js';

/** One write of a commit, evaluated and ready to be stored. */
export interface Row {
  write: Write;
  before: Held | undefined;
  after: Held | undefined;
}

/** What a commit is evaluated with. */
export interface EvaluationOptions {
  held: HeldDocuments;
  blobs: BlobTable;
  schemas: SchemaTable;
  holds: HoldTable;
  limits: CommitLimits;
  policy: Policy;
}

/** The outcome of a commit. An applied one still has to be stored. */
export type Evaluation =
  | { outcome: Exclude<CommitOutcome, { applied: AppliedCommit }> }
  | { outcome: { applied: AppliedCommit }; rows: Row[]; altered: Map<string, Held | undefined> };

/**
 * Evaluates a commit on the documents as they are, under the policy, the schemas and the limits. Changes nothing.
 *
 * @param seq the seq of the commit if it is applied
 */
export function evaluateCommit(commit: Commit, seq: number, options: EvaluationOptions): Evaluation {
  return new CommitEvaluation(commit, seq, options).run();
}

class CommitEvaluation {
  readonly #commit: Commit;
  readonly #seq: number;
  readonly #options: EvaluationOptions;
  /** The documents as the writes so far leave them, by address. */
  readonly #altered = new Map<string, Held | undefined>();
  readonly #applied: AppliedCommit;
  readonly #rows: Row[] = [];
  /** Documents that `keepExisting` left unchanged. */
  readonly #kept: DocumentChange[] = [];
  readonly #work = new PatchWork(PATCH_WORK_LIMIT);
  #resultBytes = 0;

  constructor(commit: Commit, seq: number, options: EvaluationOptions) {
    this.#commit = commit;
    this.#seq = seq;
    this.#options = options;
    this.#applied = { seq, commit, changes: [], documents: [], warnings: [] };
  }

  run(): Evaluation {
    const stale = findStaleRead(this.#commit.reads ?? [], (collection, id) => {
      const document = this.#options.held.get(collection, id)?.document;
      return document && sees(this.#accessTo(collection), document) ? document : undefined;
    });
    if (stale) return { outcome: { refused: stale.refusal, read: stale.read } };
    for (const [index, write] of this.#commit.writes.entries()) {
      const refused = this.#evaluateWrite(write, index);
      if (refused) return { outcome: { refused, write: index } };
    }
    const { documents } = this.#applied;
    if (this.#rows.length > 0) {
      return { outcome: { applied: this.#applied }, rows: this.#rows, altered: this.#altered };
    }
    return { outcome: { unchanged: { seq: this.#seq - 1, documents, warnings: [], changes: this.#kept } } };
  }

  #accessTo(collection: string): Access {
    const { rights } = this.#commit;
    return rights ? accessFor(this.#options.policy, rights, collection) : FULL_ACCESS;
  }

  #evaluateWrite(write: Write, index: number): Refusal | undefined {
    const { collection, id } = write;
    const address = formatAddress(collection, id);
    const before = this.#altered.has(address) ? this.#altered.get(address) : this.#options.held.get(collection, id);
    if (write.kind === 'delete' && write.releasedBy !== undefined && !this.#isReleased(write, before)) {
      return this.#keep(write, before);
    }
    const access = this.#accessTo(collection);
    const stamp = { seq: this.#seq, timeMs: this.#commit.timeMs };
    const { holds, limits } = this.#options;
    const outcome = applyPermitted(before?.document, write, stamp, limits, access, this.#work, holds.isHeld(write));
    if ('refusal' in outcome) return this.#asStored(outcome.refusal);
    if (outcome.kept || this.#isHeldAlready(write, before, outcome.after)) return this.#keep(write, before);
    this.#applied.documents.push({ collection, id, version: outcome.after?.version ?? 0 });
    const after = outcome.after && hold(outcome.after, before, stamp.timeMs);
    const row = { write, before, after };
    const refused =
      this.#checkSize(row, access) ?? this.#checkFile(row) ?? this.#checkSchema(row, access, address, index);
    if (refused) return refused;
    this.#altered.set(address, after);
    this.#applied.changes.push({ collection, id, before: before?.document, after: after?.document });
    this.#rows.push(row);
    return undefined;
  }

  /** A write that leaves its document as it is. */
  #keep({ collection, id }: Write, held: Held | undefined): undefined {
    this.#applied.documents.push({ collection, id, version: held?.document.version ?? 0 });
    this.#kept.push({ collection, id, before: held?.document, after: held?.document });
  }

  /** Whether a document has lost the last connection that it lived as long as. */
  #isReleased(write: Write & { kind: 'delete' }, held: Held | undefined): boolean {
    return held !== undefined && this.#options.holds.isLast(write, write.releasedBy!);
  }

  /** Whether a document lives as long as a connection already, and has the data that is written. */
  #isHeldAlready(write: Write, held: Held | undefined, after: Document | undefined): boolean {
    return (
      write.kind === 'put' &&
      write.holdFor !== undefined &&
      held !== undefined &&
      this.#options.holds.isHeld(write) &&
      deepEqual(held.document.data, after!.data)
    );
  }

  #checkSize({ write: { collection, id }, before, after }: Row, { conceal }: Access): Refusal | undefined {
    const currentVersion = before?.document.version ?? 0;
    const fault = after && sizeFault(visibleSize(after, conceal), this.#options.limits.sizeBytes);
    if (fault) {
      const { detail, pointer } = fault;
      return this.#asStored({ kind: 'too-large', collection, id, currentVersion, detail, pointer });
    }
    const { resultBytes } = this.#options.limits;
    this.#resultBytes += after?.sizeBytes ?? 0;
    if (this.#resultBytes <= resultBytes) return undefined;
    const detail = `The documents that this commit writes take more than ${groupDigits(resultBytes)} bytes in total, counted for each write. Split the commit.`;
    return this.#asStored({ kind: 'commit-too-costly', collection, id, currentVersion, detail });
  }

  #checkFile({ write, before, after }: Row): Refusal | undefined {
    if (write.collection !== FILES) return undefined;
    const { rights } = this.#commit;
    const trusted = !rights || 'scope' in rights;
    return this.#options.blobs.findFault(write, before?.document, after?.document, trusted);
  }

  #checkSchema(
    { write, before, after }: Row,
    { conceal }: Access,
    address: string,
    index: number,
  ): Refusal | undefined {
    const { schemas } = this.#options;
    const found = after && schemas.validate(write.collection, after.document.data, after.sizeBytes);
    if (!found || !after) return undefined;
    const violations = visibleViolations(found.violations, conceal, () => {
      const { data } = withoutFields(after.document, conceal);
      return schemas.validate(write.collection, data, after.sizeBytes)?.violations ?? [];
    });
    if (found.enforced) {
      return this.#asStored(describeStoredViolation(write, before?.document.version ?? 0, violations));
    }
    if (violations.length > 0) this.#applied.warnings.push({ write: index, document: address, violations });
    return undefined;
  }

  /** A refusal names the version in the store, not one that an earlier write of the same commit would have made. */
  #asStored(refused: Refusal): Refusal {
    const { collection, id } = refused;
    if (!this.#altered.has(formatAddress(collection, id))) return refused;
    return { ...refused, currentVersion: this.#options.held.get(collection, id)?.document.version ?? 0 };
  }
}
