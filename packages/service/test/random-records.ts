import type { Commit, JsonObject, Rights, Write } from '@uproar/core';
import type { LogRecord, RecordOf } from '../dist/state/records.js';
import type { Random } from '../../../test/random.js';

const AUTHORS = [
  { kind: 'key' as const, name: 'gate' },
  { kind: 'account' as const, name: 'ada' },
  { kind: 'anonymous' as const, name: '' },
];

const POLICIES = [
  'collections: { a: { read: true, create: true, update: true, delete: true } }',
  `
collections:
  a: { read: true, create: true, update: "n >= was('n')", delete: "claim('role') = 'director'" }
  b:
    read: "n IS NULL OR n < 120 OR claim('role') = 'director'"
    create: true
    update: true
    conceal: [{ field: secret, unless: "claim('role') = 'director'" }]
  files: { read: true, create: true, update: "claim('role') = 'director'" }`,
  'collections: { a: { read: "name LIKE CASEI(\'Ä%\')", create: "n > 1 AND" } }',
];

const SCHEMAS: JsonObject[] = [
  { properties: { n: { type: 'integer' }, list: { type: 'array', maxItems: 2 } } },
  { properties: { n: { type: 'integer', minimum: 100_000 }, when: { type: 'string', format: 'date-time' } } },
  { properties: { n: { type: 'no such type' } } },
];

/** Records of every kind, many of which are refused, as a service could propose them one after another. */
export class RandomRecords {
  /** The contents that files have. */
  readonly hashes = ['0', '1', '2', '3'].map((digit) => digit.repeat(64));
  readonly #random: Random;
  #count = 0;

  constructor(random: Random) {
    this.#random = random;
  }

  /** The next record. Its time goes back now and then. */
  next(): LogRecord {
    const random = this.#random;
    const number = this.#count++;
    if (number === 0) return { kind: 'store', timeMs: 1, id: 'store-1', generation: 'log-1', linkSecret: 'secret' };
    const timeMs = 1_700_000_000_000 + number * 1000 - (random.chance(0.1) ? 1_000_000 : 0);
    if (random.chance(0.6)) return { kind: 'commit', commit: this.commit(number, timeMs) };
    const id = `${random.integer(0, 4)}`;
    const author = random.pick(AUTHORS);
    const hash = () => `hash${random.integer(0, 30)}`;
    const tokens = { access: `a${number}`, refresh: `r${number}` };
    const until = { accessUntilMs: timeMs + 5000, refreshUntilMs: timeMs + 60_000 };
    return random.pick<() => LogRecord>([
      () => ({ kind: 'limits', timeMs, sizeBytes: random.pick([300, 1_000_000]), depth: 8, resultBytes: 2000 }),
      () => ({ kind: 'policy', timeMs, text: random.pick(POLICIES), author }),
      () => ({ kind: 'policy', timeMs, text: POLICIES[0]!, author, note: 'ümlaut', ifVersion: random.integer(0, 3) }),
      () => ({
        kind: 'schema',
        timeMs,
        collection: random.pick(['a', 'b']),
        mode: random.pick(['off', 'warn', 'enforce']),
        schema: random.pick(SCHEMAS),
        author,
      }),
      () => ({ kind: 'schema-removed', timeMs, collection: random.pick(['a', 'b']) }),
      () => ({
        kind: 'key-created',
        timeMs,
        id,
        name: `key-${random.integer(0, 6)}`,
        hash: `k${number}`,
        scope: 'read',
      }),
      () => ({ kind: 'key-rotated', timeMs, id, hash: `k${number}`, oldUntilMs: timeMs + 1000 }),
      () => ({ kind: 'key-revoked', timeMs, id }),
      () => ({
        kind: 'account-created',
        timeMs,
        id: `u${number}`,
        name: `n${random.integer(0, 5)}`,
        claims: { role: 'crew' },
      }),
      () => ({ kind: 'account-created', timeMs, id: `u${number}`, claims: {} }),
      () => ({
        kind: 'account-changed',
        timeMs,
        id: this.#account(),
        disabled: random.chance(0.3),
        endSessionsExcept: '',
      }),
      () => ({
        kind: 'account-changed',
        timeMs,
        id: this.#account(),
        name: `n${random.integer(0, 9)}`,
        password: 'hash',
      }),
      () => ({ kind: 'account-removed', timeMs, id: this.#account() }),
      () => ({ kind: 'guests-removed', timeMs }),
      () => ({ kind: 'session-started', timeMs, id: `s${number}`, account: this.#account(), ...tokens, ...until }),
      () => ({ kind: 'session-used', timeMs, access: `a${random.integer(0, number)}` }),
      () => ({ kind: 'session-refreshed', timeMs, token: `r${random.integer(0, number)}`, ...tokens, ...until }),
      () => ({ kind: 'session-ended', timeMs, id: `s${random.integer(0, number)}` }),
      () => ({
        kind: 'index-created',
        timeMs,
        collection: random.pick(['a', 'b', 'new']),
        fields: random.pick(['n', '-n,seen', 'list']),
      }),
      () => ({
        kind: 'hook-created',
        timeMs,
        id,
        name: `hook-${random.integer(0, 4)}`,
        definition: this.#hook(),
        secret: `whsec_${number}`,
        ...(random.chance(0.5) ? { after: random.integer(0, number) } : {}),
      }),
      () => ({
        kind: 'hook-changed',
        timeMs,
        id,
        ...random.pick<object>([
          { definition: this.#hook() },
          { paused: 'rain' },
          { paused: null, after: random.integer(0, number) },
          { paused: 'late', ifRun: random.integer(1, 3) },
        ]),
      }),
      () => ({ kind: 'hook-rotated', timeMs, id, secret: `whsec_${number}`, oldUntilMs: timeMs + 1000 }),
      () => ({ kind: 'hook-removed', timeMs, id }),
      () => ({
        kind: 'setup',
        timeMs,
        steps: [
          { kind: 'policy', timeMs: 1, text: random.pick(POLICIES), author },
          { kind: 'schema', timeMs: 1, collection: 'b', mode: 'enforce', schema: random.pick(SCHEMAS), author },
          { kind: 'index-created', timeMs: 1, collection: 'a', fields: random.pick(['n', 'seen']) },
          {
            kind: 'hook-created',
            timeMs: 1,
            id: `h${number}`,
            name: `hook-${random.integer(0, 20)}`,
            definition: this.#hook(),
            secret: 'whsec_x',
          },
        ],
      }),
      () => ({
        kind: 'hook-progress',
        timeMs,
        hooks: [{ id, run: random.integer(1, 3), seq: random.integer(0, number), open: [['d', 1, 0]] }],
      }),
      () => ({
        kind: 'erasure-begun',
        timeMs,
        id: `e${random.integer(0, 2)}`,
        author,
        collection: random.pick(['a', 'b', 'files']),
        ...(random.chance(0.5) ? { reason: 'asked for' } : {}),
        forgetsIds: random.chance(0.5),
      }),
      () => ({
        kind: 'documents-erased',
        timeMs,
        erasure: `e${random.integer(0, 2)}`,
        collection: random.pick(['a', 'b', 'files']),
        ids: Array.from({ length: 3 }, () => random.pick(['d-', 'f-']) + random.integer(0, 3)),
        changes: random.integer(1, 6),
      }),
      () => ({
        kind: 'idempotency-erased',
        timeMs,
        erasure: `e${random.integer(0, 2)}`,
        collection: random.pick(['a', 'b']),
        limit: random.integer(1, 5),
      }),
      () => ({ kind: 'backup-made', timeMs, id: hash(), author, seq: number, sizeBytes: 10, sha256: this.#sha256() }),
      () => ({
        kind: 'usage',
        timeMs: random.integer(0, 9) === 0 ? timeMs + 86_400_000 : timeMs,
        rows: [[random.pick(['key:a', 'key:b', 'key:c']), random.pick(['', 'people']), 1, 2, 3, 4, 5, 6]],
        maxRows: 3,
        keptDays: 2,
      }),
      () => ({ kind: 'index-removed', timeMs, number: random.integer(1, 4) }),
      () => ({ kind: 'blob-received', timeMs, sha256: this.#sha256(), sizeBytes: 10 }),
      () => ({ kind: 'blobs-removed', timeMs, blobs: [{ sha256: this.#sha256(), received: random.integer(1, 60) }] }),
      () => ({ kind: 'journal-truncated', timeMs, seq: random.integer(0, number / 4) }),
      () => ({ kind: 'journal-swept', timeMs, changes: random.integer(1, 20) }),
      () => ({ kind: 'idempotency-expired', timeMs, beforeMs: timeMs - 50_000, limit: 3 }),
      () => ({
        kind: 'key-created',
        timeMs,
        id: hash(),
        name: 'first',
        hash: `k${number}`,
        scope: 'admin',
        first: true,
      }),
    ])();
  }

  #hook(): RecordOf<'hook-created'>['definition'] {
    const { url, format } = { url: 'https://receiver.example/', format: 'binary' as const };
    return {
      url,
      collection: 'a',
      kinds: ['created'],
      format,
      parallel: this.#random.integer(1, 9),
      timeoutSeconds: 5,
    };
  }

  #account(): string {
    return `u${this.#random.integer(0, this.#count)}`;
  }

  #sha256(): string {
    return this.#random.pick(this.hashes);
  }

  /** A commit, of writes of every kind; many of them cannot be applied. */
  commit(number: number, timeMs: number): Commit {
    const random = this.#random;
    const id = random.chance(0.3) ? `commit-${random.integer(0, 40)}` : undefined;
    const rights = random.pick<Rights | undefined>([
      undefined,
      { scope: 'write', collections: ['a'] },
      { claims: { sub: 'ada', role: 'crew' } },
      { claims: { sub: 'bo', role: 'director' } },
    ]);
    const reads = random.chance(0.2) ? [{ collection: 'a', id: 'd-1', version: random.integer(0, number) }] : undefined;
    return {
      timeMs,
      author: random.pick(AUTHORS),
      writes: Array.from({ length: random.chance(0.6) ? 1 : random.integer(2, 4) }, () => this.#write(number)),
      ...(id === undefined ? {} : { id, digest: random.pick(['one', 'other']) }),
      ...(rights ? { rights } : {}),
      ...(reads ? { reads } : {}),
    };
  }

  /** When the document of a write ends: mostly it does not. */
  #end(): Pick<Write, 'expires' | 'ttlMs'> {
    const random = this.#random;
    if (random.chance(0.6)) return {};
    if (random.chance(0.3)) return { expires: null };
    return random.chance(0.5)
      ? { ttlMs: random.integer(1, 20_000) }
      : { expires: 1_700_000_000_000 + random.integer(0, 200_000) };
  }

  #write(number: number): Write {
    const random = this.#random;
    if (random.chance(0.1)) {
      const sha256 = this.#sha256();
      const data = { name: 'picture', size: 10, sha256 };
      const content = random.chance(0.7) ? { content: sha256 } : {};
      return { kind: 'put', collection: 'files', id: `f-${random.integer(0, 3)}`, data, ...content };
    }
    const base = { collection: random.pick(['a', 'b']), id: `d-${random.integer(0, 9)}` };
    const condition = random.chance(0.2) ? { versionIn: [random.integer(0, number)] } : undefined;
    const guarded = condition ? { ...base, condition } : base;
    const node = random.pick(['node-1', 'node-2']);
    switch (random.integer(0, 7)) {
      case 0:
      case 1:
        return {
          ...guarded,
          ...this.#end(),
          kind: 'put',
          data: { ...random.object(2), n: number, list: [1], secret: number },
        };
      case 2:
        return { ...base, kind: 'create', data: { n: 0 }, keepExisting: random.chance(0.5) };
      case 3:
        return { ...guarded, ...this.#end(), kind: 'merge', data: random.object(2) };
      case 4:
        return { ...base, kind: 'patch', ops: [{ op: 'add', path: '/patched', value: random.value(2) }] };
      case 5: {
        const by = { '/n': { add: 1 }, '/seen': { now: true as const }, '/list': { with: [random.value(1)] } };
        return { ...base, kind: 'adjust', by };
      }
      case 6:
        return random.chance(0.7)
          ? { ...base, kind: 'put', data: { n: random.integer(0, 9) }, holdFor: node }
          : { ...base, kind: 'delete', releasedBy: node };
      default:
        return random.chance(0.5) ? { ...guarded, kind: 'delete' } : { ...base, kind: 'delete', ifExpired: true };
    }
  }
}
