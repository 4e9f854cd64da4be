import type { JsonObject } from '@uproar/core';
import type { ProblemError } from '@uproar/protocol/problem-error';
import type { Problem } from '@uproar/protocol';
import type { ClientStorage, KeptUpload } from '../storage/storage.js';
import type { StoreAccess } from '../store-access.js';

/** How a file is uploaded. */
export interface UploadOptions {
  /** The id of the file; a generated one unless given. A file that is there gets other content. */
  id?: string;
  /** What it is called; the name of a `File` unless given. */
  name?: string;
  /** Its media type; that of the blob unless given. */
  type?: string;
  /** Fields of one's own for its description. */
  data?: JsonObject;
  /** Hears how many bytes have been sent, and of how many. */
  onProgress?: (sentBytes: number, totalBytes: number) => void;
  /** Breaks it off. */
  signal?: AbortSignal;
}

/** A file that was kept over a restart and that the store refused then, and why. */
export interface RefusedUpload {
  id: string;
  problem: Problem;
}

/** What sending files works with. */
export interface FilesOptions {
  store: StoreAccess;
  storage: ClientStorage;
  headers: () => Promise<Record<string, string>>;
  onRefused: ((refused: RefusedUpload) => void) | undefined;
  /** The class of refusals, which is not in the file that is loaded later. */
  Refused: typeof ProblemError;
  /** The files that are on their way, or wait for a connection, in the order of their making. */
  waiting: Map<string, KeptUpload>;
  /** When the files of an id are through, those that go one after the other. */
  turns: Map<string, Promise<void>>;
}
