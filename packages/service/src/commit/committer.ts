import { createHash } from 'node:crypto';
import {
  createIdGenerator,
  findDataFault,
  formatAddress,
  readEnd,
  splitAddress,
  type Author,
  type Commit,
  type Condition,
  type DocumentChange,
  type JsonObject,
  type JsonValue,
  type Rights,
  type Write,
} from '@uproar/core';
import {
  createProblem,
  ProblemError,
  type Problem,
  type Receipt,
  type WireCommit,
  type WireWrite,
  problemError,
} from '@uproar/protocol';
import { formatIdentity } from '../identity/identity.js';
import type { UsageCounter, UsageMeter } from '../usage/usage-meter.js';
import type { Tracing } from '../metrics/tracing.js';
import type { CommitResult, MetricsRecorder } from '../metrics/metrics-recorder.js';
import {
  DEFAULT_COMMIT_RESULT_BYTES,
  type AppliedCommit,
  type CommitOrigin,
  type CommitOutcome,
  type Store,
} from '../store/index.js';

/** How large one commit may be. */
export interface CommitLimits {
  writes: number;
  /** Bytes of the request. */
  sizeBytes: number;
  /** Bytes of all documents that it leaves, each counted for every write to it. */
  resultBytes: number;
}

/** 10,000 writes, 16 MiB, and documents of 64 MiB. */
export const DEFAULT_COMMIT_LIMITS: CommitLimits = {
  writes: 10_000,
  sizeBytes: 16 * 1024 * 1024,
  resultBytes: DEFAULT_COMMIT_RESULT_BYTES,
};

/** Whose commit it is and where it comes from. */
export interface Sender extends CommitOrigin {
  author: Author;
  rights: Rights;
  /** Distinguishes this sender from others of the same name, such as an earlier key. */
  idSpace?: string | undefined;
  /** The node that holds documents which live as long as the connection of the sender; undefined without a connection. */
  holdFor?: string | undefined;
}

/** The result of writing one document. */
export interface Written {
  seq: number;
  change: DocumentChange;
  /** What does not fit a schema that only warns. */
  warnings: Receipt['warnings'];
}

/** Takes commits from every interface: checks their data, fixes ids and time, appends them, explains refusals. */
export class Committer {
  readonly #store: Store;
  readonly #limits: CommitLimits;
  readonly #recorder: MetricsRecorder;
  readonly #usage: UsageMeter;
  readonly #tracing: Tracing;
  readonly #nextId: () => string;

  constructor(store: Store, recorder: MetricsRecorder, usage: UsageMeter, tracing: Tracing, limits: CommitLimits) {
    this.#usage = usage;
    this.#recorder = recorder;
    this.#tracing = tracing;
    this.#store = store;
    this.#limits = limits;
    this.#nextId = createIdGenerator(
      { now: () => store.idClock.now(), random: (bytes) => crypto.getRandomValues(bytes) },
      store.idClock.lastMs,
    );
  }

  /** An id for a new document. Later ids sort behind earlier ones. */
  newId(): string {
    return this.#nextId();
  }

  /**
   * Appends a commit as it came over the wire. One with an id that was applied before is answered as it was then.
   *
   * @throws {ProblemError} with the index of the write or read at fault, when it is refused
   */
  async commit(commit: WireCommit, sender: Sender): Promise<Receipt> {
    const { id, writes: wireWrites, reads } = commit;
    if (wireWrites.length > this.#limits.writes) {
      throw problemError(
        'too-large',
        `A commit has at most ${this.#limits.writes} writes, not ${wireWrites.length}. Split it.`,
        { pointer: '/writes' },
      );
    }
    const writes = wireWrites.map((write, index) => this.#prepare(write, index, sender.holdFor));
    const digest = id === undefined ? undefined : digestOf([wireWrites, reads ?? []] as unknown as JsonValue);
    const outcome = await this.#append(
      { id, digest, writes, reads: reads?.map(({ doc, version }) => ({ ...splitAddress(doc), version })) },
      sender,
    );
    const { seq, documents, warnings } =
      'applied' in outcome ? outcome.applied : 'unchanged' in outcome ? outcome.unchanged : outcome.repeated;
    return { seq, documents, ...(warnings.length > 0 ? { warnings } : {}) };
  }

  /**
   * Appends one write as a commit of its own.
   *
   * @param retry the id of the commit, and a digest of everything that makes up its content
   * @throws {ProblemError} when it is refused
   */
  async write(write: Write, sender: Sender, retry?: { id: string; content: JsonValue }): Promise<Written> {
    const named = retry && { id: retry.id, digest: digestOf(retry.content) };
    const outcome = await this.#append({ ...named, writes: [write] }, sender);
    if ('applied' in outcome) {
      const { seq, changes, warnings } = outcome.applied;
      return { seq, change: changes[0]!, warnings };
    }
    if ('unchanged' in outcome) {
      const { seq, changes } = outcome.unchanged;
      return { seq, change: changes[0]!, warnings: [] };
    }
    const { seq, documents, warnings } = outcome.repeated;
    const [document] = documents;
    if (!document)
      throw problemError('erased', `This commit was applied before, as seq ${seq}. Its document was erased since.`);
    const { collection, id } = document;
    const info = this.#store.collections.get(collection);
    const change = info && this.#store.journal.changeAt(info.number, id, seq);
    if (change?.before ?? change?.after) return { seq, change: change!, warnings };
    throw problemError(
      'journal-truncated',
      `This commit was applied before, as seq ${seq}, but its changes are no longer in the journal. Read ${collection}/${id}.`,
      { document: formatAddress(collection, id) },
    );
  }

  /**
   * Checks data that is to be written, and returns it.
   *
   * @throws {ProblemError} `bad-document` or `too-large`
   */
  checkData(data: unknown, extra: Partial<Problem> = {}): JsonObject {
    const fault = findDataFault(data, this.#store.limits.depth);
    if (fault)
      throw problemError('bad-document', fault.detail, { ...extra, pointer: (extra.pointer ?? '') + fault.pointer });
    return data as JsonObject;
  }

  async #append(
    { id, digest, writes, reads }: Pick<Commit, 'id' | 'digest' | 'writes' | 'reads'>,
    sender: Sender,
  ): Promise<{ applied: AppliedCommit } | Extract<CommitOutcome, { repeated: unknown } | { unchanged: unknown }>> {
    const { author, rights } = sender;
    const outcome = await this.#tracing.span('commit', { 'uproar.writes': writes.length }, async (note) => {
      const started = performance.now();
      let fate: CommitResult = 'failed';
      try {
        const idSpace = digest === undefined ? undefined : idSpaceFor(digest, author, sender.idSpace);
        const found = await this.#store.log.append(
          { id, digest, writes, reads, idSpace, timeMs: Date.now(), author, rights },
          sender,
        );
        fate = 'applied' in found || 'unchanged' in found ? 'applied' : 'repeated' in found ? 'repeated' : 'refused';
        if ('applied' in found) {
          note({ 'uproar.seq': found.applied.seq });
          this.#countWrites(author, writes);
        }
        return found;
      } finally {
        this.#recorder.recordCommit(fate, writes.length, performance.now() - started);
      }
    });
    if ('refused' in outcome) throw new ProblemError(explainRefusal(outcome, writes.length));
    if ('idReused' in outcome) {
      throw problemError(
        'id-reused',
        `The id ${outcome.idReused} was used before with other content. Every commit needs its own id.`,
      );
    }
    return outcome;
  }

  #countWrites(author: Author, writes: readonly Write[]): void {
    const identity = formatIdentity(author);
    let counter: UsageCounter | undefined;
    for (const { collection } of writes) {
      if (counter?.collection !== collection) counter = this.#usage.counterFor(identity, collection);
      counter.write(1);
    }
  }

  #prepare(write: WireWrite, index: number, holdFor: string | undefined): Write {
    if ('data' in write) this.checkData(write.data, { write: index, pointer: `/writes/${index}/data` });
    if ('create' in write) {
      const { create: collection, id = this.newId(), data, keepExisting } = write;
      return { kind: 'create', collection, id, data, ...(keepExisting ? { keepExisting } : {}), ...readEnd(write) };
    }
    const condition = conditionFor(write.ifVersion);
    if ('delete' in write) return { kind: 'delete', ...splitAddress(write.delete), condition };
    const rest = { condition, ...readEnd(write) };
    if ('put' in write) {
      if (write.whileConnected && holdFor === undefined) {
        throw problemError(
          'bad-request',
          'A document can live as long as a WebSocket connection only if that connection writes it. Use "ttl" here.',
          { write: index, pointer: `/writes/${index}/whileConnected` },
        );
      }
      const held = write.whileConnected ? { holdFor } : {};
      return { kind: 'put', ...splitAddress(write.put), data: write.data, ...rest, ...held };
    }
    if ('merge' in write) return { kind: 'merge', ...splitAddress(write.merge), data: write.data, ...rest };
    if ('patch' in write) return { kind: 'patch', ...splitAddress(write.patch), ops: write.ops, ...rest };
    return { kind: 'adjust', ...splitAddress(write.adjust), by: write.by, ...rest };
  }
}

/**
 * The scope in which the id of a commit is unique. Callers without a key cannot be distinguished, so for them other
 * content makes another commit, and no sender can block an id for others.
 */
function idSpaceFor(digest: string, { kind, name }: Author, own = ''): string {
  const shared = kind === 'anonymous' || kind === 'open';
  return [kind, name, shared ? digest : own].filter((part) => part !== '').join(':');
}

function conditionFor(ifVersion: number | undefined): Condition | undefined {
  if (ifVersion === undefined) return undefined;
  return ifVersion === 0 ? { exists: false } : { versionIn: [ifVersion] };
}

/** Distinguishes contents. A retry sends the same members in the same order. */
function digestOf(content: JsonValue): string {
  return createHash('sha256').update(JSON.stringify(content)).digest('base64url');
}

function explainRefusal(
  { refused, write, read }: Extract<CommitOutcome, { refused: unknown }>,
  writes: number,
): Problem {
  const { kind, collection, id, detail, ...extra } = refused;
  const place = read === undefined ? { write: writes > 1 ? write : undefined } : { read };
  return createProblem(kind, detail, { ...place, document: formatAddress(collection, id), ...extra });
}
