import {
  createIdGenerator,
  findDataFault,
  formatAddress,
  splitAddress,
  type Author,
  type Condition,
  type JsonObject,
  type Write,
} from '@uproar/core';
import {
  createProblem,
  ProblemError,
  type Problem,
  type Receipt,
  type WireCommit,
  type WireWrite,
} from '@uproar/protocol';
import type { AppliedCommit, CommitOutcome, Store } from '../store/index.js';

/** Takes commits from every interface: checks their data, fixes ids and time, appends them, explains refusals. */
export class Committer {
  readonly #store: Store;
  readonly #nextId = createIdGenerator({
    now: () => Date.now(),
    random: (bytes) => crypto.getRandomValues(bytes),
  });

  constructor(store: Store) {
    this.#store = store;
  }

  /** An id for a new document. Later ids sort behind earlier ones. */
  newId(): string {
    return this.#nextId();
  }

  /**
   * Appends a commit as it came over the wire.
   *
   * @throws {ProblemError} with the index of the write at fault, when it is refused
   */
  async commit(commit: WireCommit, author: Author): Promise<Receipt> {
    const writes = commit.writes.map((write, index) => this.#prepare(write, index));
    const { seq, changes } = await this.append(writes, author, commit.id);
    const documents = changes.map(({ collection, id, after }) => ({ collection, id, version: after ? seq : 0 }));
    return { seq, documents };
  }

  /**
   * Appends writes as one commit.
   *
   * @throws {ProblemError} when it is refused
   */
  async append(writes: Write[], author: Author, id?: string): Promise<AppliedCommit> {
    const outcome = await this.#store.log.append({ id, timeMs: Date.now(), author, writes });
    if ('applied' in outcome) return outcome.applied;
    throw new ProblemError(explainRefusal(outcome, writes.length));
  }

  /**
   * Checks data that is to be written, and returns it.
   *
   * @throws {ProblemError} `bad-document` or `too-large`
   */
  checkData(data: unknown, extra: Partial<Problem> = {}): JsonObject {
    const fault = findDataFault(data, this.#store.limits.depth);
    if (fault)
      throw ProblemError.of('bad-document', fault.detail, { ...extra, pointer: (extra.pointer ?? '') + fault.pointer });
    return data as JsonObject;
  }

  #prepare(write: WireWrite, index: number): Write {
    if ('data' in write) this.checkData(write.data, { write: index, pointer: `/writes/${index}/data` });
    if ('create' in write) {
      return { kind: 'create', collection: write.create, id: write.id ?? this.newId(), data: write.data };
    }
    const condition = conditionFor(write.ifVersion);
    if ('put' in write) return { kind: 'put', ...splitAddress(write.put), data: write.data, condition };
    if ('merge' in write) return { kind: 'merge', ...splitAddress(write.merge), data: write.data, condition };
    return { kind: 'delete', ...splitAddress(write.delete), condition };
  }
}

function conditionFor(ifVersion: number | undefined): Condition | undefined {
  if (ifVersion === undefined) return undefined;
  return ifVersion === 0 ? { exists: false } : { versionIn: [ifVersion] };
}

function explainRefusal({ refused, write }: Extract<CommitOutcome, { refused: unknown }>, writes: number): Problem {
  const extra = { write: writes > 1 ? write : undefined, document: formatAddress(refused.collection, refused.id) };
  if (refused.kind === 'bad-document') {
    const name = refused.fault.kind === 'too-large' ? 'too-large' : 'bad-document';
    return createProblem(name, refused.fault.detail, { ...extra, pointer: refused.fault.pointer });
  }
  return createProblem(refused.kind, refused.detail, { ...extra, currentVersion: refused.currentVersion });
}
