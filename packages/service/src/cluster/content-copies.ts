import { Readable } from 'node:stream';
import type { ReadableStream } from 'node:stream/web';
import { problemError } from '@uproar/protocol';
import type { Store } from '../store/index.js';

/** Contents that could not be copied are tried again after this time, in milliseconds. */
const RETRY_MS = 2000;

/** How long a node may take to begin its answer, in milliseconds. */
const ANSWER_MS = 10_000;

/** What copies of contents are made with. */
export interface ContentCopiesParts {
  store: Store;
  /** The addresses of the other nodes. */
  peers: () => string[];
  /** What nodes authenticate with. */
  secret: string;
}

/** Where a node serves its contents to others. */
export function contentAddress(sha256: string): string {
  return `/v1/cluster/contents/${sha256}`;
}

/**
 * Brings the contents of files to all nodes. The log carries their hashes only. A new content is on a second node before its
 * description is committed; all others copy it afterwards, one content at a time, or when it is asked for.
 */
export class ContentCopies {
  readonly #parts: ContentCopiesParts;
  readonly #waiting = new Set<string>();
  /** Copies that are being made. */
  readonly #running = new Map<string, Promise<void>>();
  #timer: NodeJS.Timeout | undefined;
  #working = false;
  #closed = false;

  constructor(parts: ContentCopiesParts) {
    this.#parts = parts;
    const { contents, log } = parts.store;
    for (const sha256 of contents.missing()) this.#waiting.add(sha256);
    log.onBatch(({ records }) => {
      for (const record of records) {
        if (record.kind !== 'blob-received' || contents.has(record.sha256)) continue;
        this.#waiting.add(record.sha256);
        this.#workLater(RETRY_MS);
      }
    });
    this.#workLater(0);
  }

  close(): void {
    this.#closed = true;
    clearTimeout(this.#timer);
  }

  /**
   * Makes sure that a content is on this node.
   *
   * @throws {ProblemError} `behind` when no node has it just now
   */
  async ensure(sha256: string): Promise<void> {
    if (this.#parts.store.contents.has(sha256)) return;
    let running = this.#running.get(sha256);
    if (!running) {
      running = this.#copy(sha256).finally(() => this.#running.delete(sha256));
      this.#running.set(sha256, running);
    }
    await running;
  }

  /**
   * Lets another node copy a content of this one. Without another node, this one alone has it.
   *
   * @throws {ProblemError} `no-quorum` when none of the other nodes takes it
   */
  async spread(sha256: string): Promise<void> {
    const peers = this.#parts.peers();
    for (const peer of peers) {
      const response = await this.#ask('POST', peer, sha256).catch(() => undefined);
      if (response?.ok) return;
    }
    if (peers.length > 0) {
      throw problemError('no-quorum', 'No other node could take a copy of the file. Send it again in a moment.');
    }
  }

  async #copy(sha256: string): Promise<void> {
    const { contents } = this.#parts.store;
    for (const peer of this.#parts.peers()) {
      try {
        const response = await this.#ask('GET', peer, sha256);
        if (!response.ok || response.body === null) continue;
        await contents.adopt(Readable.fromWeb(response.body as ReadableStream), sha256);
        return;
      } catch {
        // The next node may have it.
      }
    }
    throw problemError('behind', 'The content of this file is not on this node yet. Try again in a moment.');
  }

  async #ask(method: string, peer: string, sha256: string): Promise<Response> {
    const abort = new AbortController();
    const timer = setTimeout(() => abort.abort(), ANSWER_MS);
    try {
      return await fetch(new URL(contentAddress(sha256), peer), {
        method,
        headers: { authorization: `Bearer ${this.#parts.secret}` },
        signal: abort.signal,
      });
    } finally {
      clearTimeout(timer);
    }
  }

  #workLater(ms: number): void {
    if (this.#closed || this.#working || this.#waiting.size === 0) return;
    clearTimeout(this.#timer);
    this.#timer = setTimeout(() => void this.#work(), ms).unref();
  }

  /** Copies what waits, one after another. */
  async #work(): Promise<void> {
    this.#working = true;
    for (const sha256 of [...this.#waiting]) {
      if (this.#closed) return;
      await this.ensure(sha256).then(
        () => this.#waiting.delete(sha256),
        () => undefined,
      );
      if (this.#closed) return;
      // A content that was removed meanwhile is not waited for.
      const known = this.#parts.store.reads
        .values<[string], number>('SELECT 1 FROM contents WHERE sha256 = ?')
        .get(sha256);
      if (known === undefined) this.#waiting.delete(sha256);
    }
    this.#working = false;
    this.#workLater(RETRY_MS);
  }
}
