import type Database from 'better-sqlite3';
import { CLOSED, formatTime, PolicyError, readPolicy, type Author, type JsonValue, type Policy } from '@uproar/core';
import { problemError } from '@uproar/protocol';
import { LineCounter, parseDocument } from 'yaml';
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
const MAX_CHARACTERS = 512 * 1024;
const NO_TEXT = '# Only keys have access.\ncollections: {}\n';

/** The policy of a store: all its versions, of which the last is in force. */
export class Policies {
  readonly #database: Database.Database;
  #current: Policy = CLOSED;
  #version = 0;

  constructor(database: Database.Database) {
    this.#database = database;
    const last = this.#last();
    if (last) this.#take(last.version, parsePolicy(last.text));
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
    const row = this.#database.prepare<[number], Row>(`SELECT ${COLUMNS} FROM policies WHERE version = ?`).get(version);
    return row && describe(row);
  }

  /** Versions, newest first. */
  list(limit: number): PolicyVersion[] {
    return this.#database
      .prepare<[number], Row>(`SELECT ${COLUMNS} FROM policies ORDER BY version DESC LIMIT ?`)
      .all(limit)
      .map(describe);
  }

  /**
   * Puts another policy in force.
   *
   * @param text YAML or JSON
   * @throws {ProblemError} `bad-policy`, with the place of the fault
   */
  set(text: string, author: Author, note?: string): PolicyVersion {
    const policy = parsePolicy(text);
    const version = this.#version + 1;
    this.#database
      .prepare('INSERT INTO policies (version, time, author, note, text) VALUES (?, ?, ?, ?, ?)')
      .run(version, Date.now(), JSON.stringify(author), note ?? null, text);
    this.#take(version, policy);
    return this.get()!;
  }

  #last(): Row | undefined {
    return this.#database.prepare<[], Row>(`SELECT ${COLUMNS} FROM policies ORDER BY version DESC LIMIT 1`).get();
  }

  #take(version: number, policy: Policy): void {
    this.#version = version;
    this.#current = policy;
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

/**
 * Reads a policy from YAML 1.2, of which JSON is a part.
 *
 * @throws {ProblemError} `bad-policy`, with a pointer into the policy or the place in the text
 */
export function parsePolicy(text: string): Policy {
  if (text.length > MAX_CHARACTERS) {
    throw problemError('bad-policy', `A policy has at most ${MAX_CHARACTERS} characters.`);
  }
  const lines = new LineCounter();
  // Aliases could blow a short text up; a policy has no use for them.
  const document = parseDocument(text, { lineCounter: lines, uniqueKeys: true, prettyErrors: false, version: '1.2' });
  const [fault] = document.errors;
  if (fault) {
    const { line, col } = lines.linePos(fault.pos[0]);
    throw problemError('bad-policy', `Line ${line}, column ${col}: ${fault.message}`, { position: fault.pos[0] });
  }
  try {
    return readPolicy((document.toJS({ maxAliasCount: 0 }) ?? {}) as JsonValue);
  } catch (error) {
    if (error instanceof PolicyError) {
      throw problemError('bad-policy', `${error.pointer || '/'}: ${error.message}`, {
        pointer: error.pointer,
        position: error.position,
      });
    }
    throw problemError('bad-policy', `The policy cannot be read: ${(error as Error).message}`);
  }
}
