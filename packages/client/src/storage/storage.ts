import type { Document, JsonObject } from '@uproar/core';
import type { WireCommit } from '@uproar/protocol';

/** A write that waits in the outbox. */
export interface OutboxEntry {
  /** Its commit; with an id, which makes sending it again harmless. */
  commit: WireCommit & { id: string };
  /** When it was made, in milliseconds since 1970. */
  at: number;
  /** When it was sent first; undefined while it never was. */
  sentAt?: number;
}

/** A file that is to be sent. */
export interface KeptUpload {
  /** Identifies the upload; later keys sort behind earlier ones. */
  key: string;
  /** The id of the file. */
  id: string;
  content: Blob;
  name?: string | undefined;
  type?: string | undefined;
  data?: JsonObject | undefined;
}

/** What a watched query showed last. */
export interface StoredView {
  documents: Document[];
  more: boolean;
  seq: number;
  resume: string | undefined;
}

/** Where a client keeps what must survive it: the outbox, and copies of watches. */
export interface ClientStorage {
  /** The entries of the outbox in the order of their making. */
  entries(): Promise<OutboxEntry[]>;
  putEntry(entry: OutboxEntry): Promise<void>;
  removeEntry(id: string): Promise<void>;
  view(key: string): Promise<StoredView | undefined>;
  putView(key: string, view: StoredView): Promise<void>;
  close(): void | Promise<void>;
  /** The files that are to be sent, in the order of their making. Without these three, they are kept in memory alone. */
  uploads?(): Promise<KeptUpload[]>;
  putUpload?(upload: KeptUpload): Promise<void>;
  removeUpload?(key: string): Promise<void>;
  /**
   * Runs `act` when no other client of the storage runs one under this name. Without it, this client is the only one.
   */
  alone?(name: string, act: () => Promise<void>): Promise<void>;
  /**
   * Runs `send` while this client is the one that sends, where several share the storage, and calls `changed` when another
   * added or removed entries. Without it, this client is the only one.
   */
  share?(hooks: SharedOutbox): void;
  /** Informs other clients that an entry was added, or removed with its outcome. */
  announce?(message: OutboxMessage): void;
}

/** How an entry of the outbox came out, or that it is there. */
export type OutboxMessage =
  { kind: 'added'; entry: OutboxEntry } | { kind: 'settled'; id: string; receipt?: unknown; problem?: unknown };

/** A message from another client that shares the storage. */
export interface SharedOutbox {
  /** This client is the one that sends, until `done` is resolved. */
  lead(done: Promise<void>): void;
  heard(message: OutboxMessage): void;
}

/** Keeps everything in memory: nothing outlasts the process. */
export class MemoryStorage implements ClientStorage {
  entries(): Promise<OutboxEntry[]> {
    return Promise.resolve([]);
  }

  putEntry(): Promise<void> {
    return Promise.resolve();
  }

  removeEntry(): Promise<void> {
    return Promise.resolve();
  }

  view(): Promise<undefined> {
    return Promise.resolve(undefined);
  }

  putView(): Promise<void> {
    return Promise.resolve();
  }

  close(): void {}
}
