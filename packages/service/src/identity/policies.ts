import { CLOSED, formatTime, type Author, type Policy } from '@uproar/core';
import { parsePolicy } from '../state/parse-policy.js';
import { innerRecords } from '../state/records.js';
import type { Store } from '../store/index.js';
import { formatIdentity } from './identity.js';

/** A version of the policy. */
export interface PolicyVersion {
  /** From 1; 0 if no policy has been set. */
  version: number;
  /** As it was written, in YAML or JSON. */
  text: string;
  time?: string;
  identity?: string;
  note?: string;
}

interface Row {
  version: number;
  time: number;
  author: string;
  note: string | null;
  text: string;
}

const COLUMNS = 'version, time, author, note, text';
const LAST = `SELECT ${COLUMNS} FROM policies ORDER BY version DESC LIMIT 1`;
const NO_TEXT = '# Only keys have access.\ncollections: {}\n';

/** The policy of a store: all its versions, of which the last is in force. */
export class Policies {
  readonly #store: Pick<Store, 'reads' | 'log'>;
  #current: Policy = CLOSED;
  #version = 0;

  constructor(store: Pick<Store, 'reads' | 'log'>) {
    this.#store = store;
    this.#load();
    store.log.onBatch(({ records }) => {
      if (innerRecords(records).some(({ kind }) => kind === 'policy')) this.#load();
    });
  }

  /** The policy in force. */
  get current(): Policy {
    return this.#current;
  }

  get version(): number {
    return this.#version;
  }

  /** The newest version, or the given one. Undefined if it does not exist. */
  get(version?: number): PolicyVersion | undefined {
    if (version === undefined || version === this.#version) {
      const last = this.#last();
      return last ? describe(last) : { version: 0, text: NO_TEXT };
    }
    const row = this.#store.reads
      .statement<[number], Row>(`SELECT ${COLUMNS} FROM policies WHERE version = ?`)
      .get(version);
    return row && describe(row);
  }

  /** Versions, newest first. */
  list(limit: number): PolicyVersion[] {
    return this.#store.reads
      .statement<[number], Row>(`SELECT ${COLUMNS} FROM policies ORDER BY version DESC LIMIT ?`)
      .all(limit)
      .map(describe);
  }

  /**
   * Puts another policy in force.
   *
   * @param text YAML or JSON
   * @param ifVersion the version that this one replaces
   * @throws {ProblemError} `bad-policy`, with the place of the fault, or `version-mismatch`
   */
  async set(text: string, author: Author, note?: string, ifVersion?: number): Promise<PolicyVersion> {
    const { version } = await this.#store.log.propose({
      kind: 'policy',
      timeMs: Date.now(),
      text,
      author,
      ...(note === undefined ? {} : { note }),
      ...(ifVersion === undefined ? {} : { ifVersion }),
    });
    return this.get(version)!;
  }

  #last(): Row | undefined {
    return this.#store.reads.statement<[], Row>(LAST).get();
  }

  #load(): void {
    const last = this.#last();
    if (!last) return;
    this.#version = last.version;
    this.#current = parsePolicy(last.text);
  }
}

function describe({ version, time, author, note, text }: Row): PolicyVersion {
  return {
    version,
    text,
    time: formatTime(time),
    identity: formatIdentity(JSON.parse(author) as Author),
    ...(note === null ? {} : { note }),
  };
}
