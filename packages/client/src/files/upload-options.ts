import type { JsonObject } from '@uproar/core';
import type { ProblemError } from '@uproar/protocol/problem-error';
import type { Problem } from '@uproar/protocol';
import type { ClientStorage, KeptUpload } from '../storage/storage.js';
import type { StoreAccess } from '../store-access.js';

/** How a file is uploaded. */
export interface UploadOptions {
  /** The id of the file; a generated one unless given. A file that is there gets other content. */
  id?: string;
  /** The name of the file; by default that of a `File`. */
  name?: string;
  /** Its media type; that of the blob unless given. */
  type?: string;
  /** Your own fields for the description. */
  data?: JsonObject;
  /** Called with the bytes sent and the total bytes. */
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
  /** Uploads in progress or waiting for a connection, oldest first. */
  waiting: Map<string, KeptUpload>;
  /** Resolves when the earlier uploads of an id are done, since uploads of one id run one after the other. */
  turns: Map<string, Promise<void>>;
}
