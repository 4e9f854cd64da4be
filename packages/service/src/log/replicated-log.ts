import { problemError } from '@uproar/protocol';
import { encodeEntries, type EntryHeader, type LogEntry } from '../state/log-entry.js';
import type { LogRecord } from '../state/records.js';
import type { StateMachine } from '../state/state-machine.js';
import { BaseLog } from './base-log.js';
import type { AnsweredBatch, LogParts } from './batch-writer.js';
import type { LogHealth } from './durable-writer.js';
import type { Waiting } from './intake.js';
import { OwnBatches } from './own-batches.js';
import { TooFarBehindError, type LogPlace, type LogTransport, type NodeReport } from './transport.js';

/** The times of a replicated log, in milliseconds. */
export interface ReplicatedLogTimes {
  /** How long a commit may wait for the log service before its sender gets an unknown outcome. */
  confirmMs: number;
  /** How long to wait before something is tried again. */
  retryMs: number;
}

/** What a replicated log works with. */
export interface ReplicatedLogParts extends LogParts {
  transport: LogTransport;
  /** A name that no other node has, and that this node has not had before. */
  producer: string;
  /** The most bytes of one entry. */
  entryBytes: number;
  times?: Partial<ReplicatedLogTimes> | undefined;
}

export const DEFAULT_LOG_TIMES: ReplicatedLogTimes = { confirmMs: 5000, retryMs: 250 };

/** Applying entries is interrupted after this time, in milliseconds, so that others are served in between. */
const MAX_TRANSACTION_MS = 30;

/** Entries that are kept in memory until they are applied, in bytes. What comes after them is fetched again later. */
const MAX_INCOMING_BYTES = 64 * 1024 * 1024;

/**
 * The log of a store on several nodes. A log service gives the order; each node applies the same entries to its own store.
 *
 * A batch of this node goes to the service, comes back in the one order, is applied and synced here, and is then
 * acknowledged. So an acknowledged commit is on the disks of a majority of the service, and on that of this node.
 */
export class ReplicatedLog extends BaseLog {
  readonly #state: StateMachine;
  readonly #health: LogHealth;
  readonly #transport: LogTransport;
  readonly #times: ReplicatedLogTimes;
  readonly #own: OwnBatches;
  /** Entries that came from the service and are not applied yet. */
  readonly #incoming: LogEntry[] = [];
  #incomingBytes = 0;
  #stopFollowing: (() => void) | undefined;
  #followTimer: NodeJS.Timeout | undefined;
  /** Set while entries that could not be written wait for the next try. */
  #applyTimer: NodeJS.Timeout | undefined;
  #scheduled = false;
  #closed = false;
  /** Set when this node cannot go on by itself. */
  #halt: Error | undefined;
  /** Called with the place of each entry that was applied and is on disk, and the hash up to there. */
  onPlace: (place: LogPlace & { hash: string }) => void = () => undefined;
  /** Called with the reports of nodes, also its own, in the order of the log. */
  onReport: (report: NodeReport) => void = () => undefined;
  /** Called when a node has left. */
  onGone: (node: string) => void = () => undefined;
  /** Called when this node cannot apply the log any more. */
  onHalt: (error: Error) => void = () => undefined;

  constructor(parts: ReplicatedLogParts) {
    super(parts);
    const { state, health, transport, producer, entryBytes } = parts;
    this.#state = state;
    this.#health = health;
    this.#transport = transport;
    this.#times = { ...DEFAULT_LOG_TIMES, ...parts.times };
    this.writer.onFailedSync = () => this.halt(this.#health.damage!);
    this.#own = new OwnBatches({
      ...this.#times,
      append: (bytes) => transport.append(bytes),
      encode: (number, records) => encodeEntries(producer, number, records, entryBytes),
      take: () => this.#take(),
      refuseWaiting: (problem) => this.intake.refuseAll(problem),
      onForgotten: () => this.halt(new Error('The log has forgotten this node, after very many starts of others.')),
      producer,
    });
  }

  /** Begins to follow the log, from where the store is. */
  start(): void {
    this.#follow();
    this.#own.sendNext();
  }

  /** Follows the log over another connection, if nothing comes over the present one. */
  followAgain(): void {
    if (this.#stopFollowing) this.#followLater();
  }

  /** Stops taking part in the log: this node differs from the others, or cannot read the entries. */
  halt(error: Error): void {
    if (this.#halt) return;
    this.#halt = error;
    this.#stop();
    this.onHalt(error);
  }

  /** The place of the last entry that has arrived, applied or not. */
  get receivedPlace(): number {
    return this.#incoming.at(-1)?.place ?? this.#state.position.place;
  }

  /** Why this node does not take part in the log any more. */
  get halted(): Error | undefined {
    return this.#halt;
  }

  /** Commits that have been sent get an unknown outcome: they may still be applied. */
  close(): void {
    this.#closed = true;
    this.#stop();
    this.writer.close();
    while (this.writer.hasLocalWrites) {
      this.writer.write();
      this.writer.settleNow();
    }
  }

  #stop(): void {
    clearTimeout(this.#followTimer);
    clearTimeout(this.#applyTimer);
    this.#stopFollowing?.();
    this.#stopFollowing = undefined;
    this.#incoming.length = 0;
    this.#incomingBytes = 0;
    this.#own.stop(this.whyClosed()!);
  }

  protected whyClosed(): Error | undefined {
    if (this.#halt) {
      return problemError('stopping', `This node has stopped; use another one. ${this.#halt.message}`);
    }
    if (this.#closed) {
      return problemError('stopping', 'The service is stopping. Send the commit again, to another node or later.');
    }
    return this.#health.damage;
  }

  /** A node that has stopped can still write down why. */
  protected whyNotLocally(): Error | undefined {
    return this.#closed ? this.whyClosed() : this.#health.damage;
  }

  protected recordArrived(): void {
    this.#own.sendNext();
  }

  /** The records of the next batch of this node, and who waits for them. */
  #take(): { records: LogRecord[]; waiting: Waiting[] } | undefined {
    const kind = this.intake.nextKind();
    if (kind === undefined) return undefined;
    if (kind === 'records') {
      const waiting = this.intake.takeRecords();
      return { records: waiting.map(({ record }) => record), waiting };
    }
    const waiting = [...this.intake.takeCommits()];
    return { records: waiting.map(({ commit }) => ({ kind: 'commit', commit })), waiting };
  }

  #follow(): void {
    if (this.#closed || this.#halt) return;
    const { place, revision } = this.#state.position;
    const last = this.#incoming.at(-1);
    this.#stopFollowing = this.#transport.follow(last ?? { place, revision }, {
      entry: (entry) => this.#receive(entry),
      report: (report) => this.onReport(report),
      gone: (node) => this.onGone(node),
      lost: (error) => {
        if (error instanceof TooFarBehindError) this.halt(error);
        else this.#followLater();
      },
    });
  }

  #followLater(): void {
    this.#stopFollowing?.();
    this.#stopFollowing = undefined;
    clearTimeout(this.#followTimer);
    if (this.#closed || this.#halt) return;
    this.#followTimer = setTimeout(() => this.#follow(), this.#times.retryMs);
  }

  #receive(entry: LogEntry): void {
    if (this.#closed || this.#halt) return;
    const next = this.receivedPlace + 1;
    // A service may deliver an entry again after a lost connection.
    if (entry.place < next) return;
    if (entry.place > next || this.#incomingBytes > MAX_INCOMING_BYTES) {
      // Entries are missing, or too many wait: it is asked for them again.
      this.#followLater();
      return;
    }
    this.#incoming.push(entry);
    this.#incomingBytes += entry.bytes.length;
    this.schedule();
  }

  protected schedule(): void {
    const isWork = this.#canApply || this.writer.hasLocalWrites;
    if (this.#scheduled || this.writer.isBusy || !isWork) return;
    this.#scheduled = true;
    setImmediate(() => {
      this.#scheduled = false;
      if (this.writer.isBusy || this.#closed) return;
      if (this.#canApply && !this.#halt) this.#applyNext();
      else if (this.writer.hasLocalWrites) this.writer.write();
      if (this.writer.isBusy) this.writer.settleInBackground();
    });
  }

  get #canApply(): boolean {
    return this.#incoming.length > 0 && this.#applyTimer === undefined;
  }

  /** Applies entries in one transaction: as many as time allows. */
  #applyNext(): void {
    let fault: unknown;
    let count = 0;
    this.writer.write({
      apply: () => {
        const endsMs = performance.now() + MAX_TRANSACTION_MS;
        const applied: AnsweredBatch[] = [];
        count = 0;
        try {
          for (const entry of this.#incoming) {
            const { batch, header, counted } = this.#state.applyEntry(entry);
            const waiting = this.#own.applying(header, counted);
            const { place, revision, hash } = this.#state.position;
            applied.push({ batch, waiting, settled: () => this.#settled(header, { place, revision, hash }) });
            count++;
            if (performance.now() > endsMs) break;
          }
        } catch (error) {
          fault = error;
          throw error;
        }
        return applied;
      },
      failed: () => {
        this.#own.undo();
        if (fault instanceof RangeError) this.halt(fault);
        // Such as a full disk. The entries stay, and are tried again.
        else this.#applyLater();
      },
      sizeBytes: () => this.#incoming[0]?.bytes.length ?? 0,
    });
    if (!this.writer.isBusy) return;
    for (const { bytes } of this.#incoming.splice(0, count)) this.#incomingBytes -= bytes.length;
  }

  #applyLater(): void {
    this.#applyTimer = setTimeout(() => {
      this.#applyTimer = undefined;
      this.schedule();
    }, this.#times.retryMs).unref();
  }

  #settled(header: EntryHeader, place: LogPlace & { hash: string }): void {
    this.#own.settled(header);
    this.onPlace(place);
  }
}
