import { randomBytes, randomUUID } from 'node:crypto';
import { formatTime } from '@uproar/core';
import { problemError, type HookChange, type HookForm, type HookInfo } from '@uproar/protocol';
import { prepareWireQuery } from '../reading/prepare-query.js';
import { innerRecords, type HookDefinition, type HookProgress, type RecordOf } from '../state/records.js';
import type { Store } from '../store/index.js';
import type { ReachableAddresses } from './reachable-addresses.js';

/** The bytes of a secret (Standard Webhooks asks for 24 to 64). */
const SECRET_BYTES = 32;

/** A hook. */
export interface Hook {
  readonly id: string;
  readonly name: string;
  readonly createdMs: number;
  readonly definition: HookDefinition;
  /** The secrets that deliveries are signed with at a time. */
  secretsAt(timeMs: number): string[];
  readonly oldSecretUntilMs: number | undefined;
  readonly paused: { timeMs: number; reason: string } | undefined;
  /** Raised when its progress is set from outside. */
  readonly run: number;
  readonly progress: HookProgress;
}

interface Row {
  id: string;
  name: string;
  created: number;
  definition: string;
  secret: string;
  oldSecret: string | null;
  oldUntil: number | null;
  paused: string | null;
  run: number;
  seq: number;
  open: string;
  missed: string | null;
}

const SELECT = `
  SELECT id, name, created, definition, secret, old_secret AS oldSecret, old_until AS oldUntil, paused, run, seq, open, missed
  FROM hooks ORDER BY name`;

/** The hooks of a store. */
export class Hooks {
  readonly #store: Pick<Store, 'reads' | 'log' | 'journal'>;
  readonly #addresses: ReachableAddresses;
  #hooks: readonly Hook[] = [];
  /** Called when hooks were made, changed or removed, not when they delivered something. */
  onChange: () => void = () => undefined;

  constructor(store: Pick<Store, 'reads' | 'log' | 'journal'>, addresses: ReachableAddresses) {
    this.#store = store;
    this.#addresses = addresses;
    this.#load();
    store.log.onBatch(({ records }) => {
      for (const record of records) if (record.kind === 'hook-progress') this.#noteProgress(record);
      if (!innerRecords(records).some(({ kind }) => kind.startsWith('hook-') && kind !== 'hook-progress')) return;
      this.#load();
      this.onChange();
    });
  }

  list(): readonly Hook[] {
    return this.#hooks;
  }

  /** @throws {ProblemError} `no-such-hook` */
  get(idOrName: string): Hook {
    const hook = this.#hooks.find(({ id, name }) => id === idOrName || name === idOrName);
    if (!hook)
      throw problemError('no-such-hook', `The hook "${idOrName}" does not exist. GET /v1/hooks lists the hooks.`);
    return hook;
  }

  /**
   * Creates a hook.
   *
   * @returns the hook, and its secret, which is shown only once
   * @throws {ProblemError} `bad-query`, `address-refused`, `seq-ahead`, `journal-truncated`, `hook-exists`, or
   *   `limit-reached`
   */
  async create({ name, after, ...definition }: HookForm): Promise<{ hook: Hook; secret: string }> {
    this.check(definition);
    if (after !== undefined) this.#checkSeq(after);
    const { id, secret } = newHook();
    const start = after === undefined ? {} : { after };
    await this.#store.log.propose({ kind: 'hook-created', timeMs: Date.now(), id, name, definition, secret, ...start });
    return { hook: this.get(id), secret };
  }

  /**
   * Changes what a hook delivers, or where to.
   *
   * @throws {ProblemError} `no-such-hook`, `bad-query`, or `address-refused`
   */
  async change(idOrName: string, change: HookChange): Promise<Hook> {
    const hook = this.get(idOrName);
    const { id, definition } = hook;
    const given = Object.entries(change).filter(([, value]) => value !== undefined);
    const merged = Object.fromEntries(
      Object.entries({ ...definition, ...Object.fromEntries(given) }).filter(([, value]) => value !== null),
    ) as HookDefinition;
    this.check(merged);
    await this.#propose(this.changeRecord(hook, merged), idOrName);
    return this.get(id);
  }

  /** The record that gives a hook another definition. In another collection, the hook begins with the next change. */
  changeRecord({ id, definition }: Hook, next: HookDefinition): RecordOf<'hook-changed'> {
    const moved = next.collection === definition.collection ? {} : { after: this.#store.log.seq };
    return { kind: 'hook-changed', timeMs: Date.now(), id, definition: next, ...moved };
  }

  /** @throws {ProblemError} `no-such-hook` */
  async pause(idOrName: string, reason: string, ifRun?: number): Promise<Hook> {
    const { id } = this.get(idOrName);
    const only = ifRun === undefined ? {} : { ifRun };
    await this.#propose({ kind: 'hook-changed', timeMs: Date.now(), id, paused: reason, ...only }, idOrName);
    return this.get(id);
  }

  /**
   * Lets a hook go on.
   *
   * @param after the seq to go on after, back or forth; by default, where it was
   * @throws {ProblemError} `no-such-hook`, `seq-ahead`, or `journal-truncated`
   */
  async resume(idOrName: string, after?: number): Promise<Hook> {
    const { id } = this.get(idOrName);
    if (after !== undefined) this.#checkSeq(after);
    const move = after === undefined ? {} : { after };
    await this.#propose({ kind: 'hook-changed', timeMs: Date.now(), id, paused: null, ...move }, idOrName);
    return this.get(id);
  }

  /** Gives a hook another secret. For `keepOldMs` deliveries are signed with the old one, too. */
  async rotate(idOrName: string, keepOldMs: number): Promise<{ hook: Hook; secret: string }> {
    const { id } = this.get(idOrName);
    const secret = newSecret();
    const timeMs = Date.now();
    const overlap = keepOldMs > 0 ? { oldUntilMs: timeMs + keepOldMs } : {};
    await this.#propose({ kind: 'hook-rotated', timeMs, id, secret, ...overlap }, idOrName);
    return { hook: this.get(id), secret };
  }

  /** @throws {ProblemError} `no-such-hook` */
  async remove(idOrName: string): Promise<void> {
    await this.#propose({ kind: 'hook-removed', timeMs: Date.now(), id: this.get(idOrName).id }, idOrName);
  }

  /** A hook as it is listed. */
  describe({ id, name, createdMs, definition, paused, progress, oldSecretUntilMs }: Hook): HookInfo {
    const failing = progress.open.filter(([, , sinceMs]) => sinceMs > 0);
    const since = Math.min(...failing.map(([, , sinceMs]) => sinceMs));
    return {
      id,
      name,
      ...definition,
      created: formatTime(createdMs),
      ...(paused ? { paused: { since: formatTime(paused.timeMs), reason: paused.reason } } : {}),
      seq: progress.seq,
      commitsBehind: Math.max(0, this.#store.log.seq - progress.seq),
      waiting: progress.open.length,
      ...(failing.length > 0 ? { failing: { since: formatTime(since), documents: failing.length } } : {}),
      ...(progress.missed ? { missed: progress.missed } : {}),
      ...(oldSecretUntilMs !== undefined && oldSecretUntilMs > Date.now()
        ? { oldSecretUntil: formatTime(oldSecretUntilMs) }
        : {}),
    };
  }

  /**
   * Checks what a hook is to deliver, and where to.
   *
   * @throws {ProblemError} `bad-query` or `address-refused`
   */
  check({ url, collection, where, fields }: HookDefinition): void {
    this.#addresses.check(url);
    prepareWireQuery({ from: collection, where, fields, limit: 'none' }, true);
  }

  #checkSeq(after: number): void {
    if (after > this.#store.log.seq) {
      throw problemError('seq-ahead', `The store is at seq ${this.#store.log.seq}.`, { pointer: '/after' });
    }
    const { first } = this.#store.journal.bounds();
    if (after < first - 1) {
      throw problemError(
        'journal-truncated',
        `The journal starts after seq ${first - 1}. Use that seq, or a later one.`,
        {
          pointer: '/after',
        },
      );
    }
  }

  async #propose(
    record: Parameters<Store['log']['propose']>[0] & { kind: `hook-${'changed' | 'rotated' | 'removed'}` },
    name: string,
  ) {
    const { found } = await this.#store.log.propose(record);
    if (!found) throw problemError('no-such-hook', `The hook "${name}" does not exist any more.`);
  }

  #noteProgress({ hooks }: RecordOf<'hook-progress'>): void {
    this.#hooks = this.#hooks.map((hook) => {
      const found = hooks.find(({ id, run }) => id === hook.id && run === hook.run);
      return found ? { ...hook, progress: { seq: found.seq, open: found.open, missed: found.missed } } : hook;
    });
  }

  #load(): void {
    this.#hooks = this.#store.reads.statement<[], Row>(SELECT).all().map(readRow);
  }
}

function readRow(row: Row): Hook {
  const { id, name, created, definition, secret, oldSecret, oldUntil, paused, run, seq, open, missed } = row;
  return {
    id,
    name,
    createdMs: created,
    definition: JSON.parse(definition) as HookDefinition,
    secretsAt: (timeMs) => (oldSecret !== null && timeMs < oldUntil! ? [secret, oldSecret] : [secret]),
    oldSecretUntilMs: oldUntil ?? undefined,
    paused: paused === null ? undefined : (JSON.parse(paused) as Hook['paused']),
    run,
    progress: {
      seq,
      open: JSON.parse(open) as HookProgress['open'],
      ...(missed === null ? {} : { missed: JSON.parse(missed) as HookProgress['missed'] }),
    },
  };
}

/** The id and the secret of a new hook. */
export function newHook(): { id: string; secret: string } {
  return { id: randomUUID(), secret: newSecret() };
}

/** A new secret, in the form of Standard Webhooks. */
function newSecret(): string {
  return `whsec_${randomBytes(SECRET_BYTES).toString('base64')}`;
}
