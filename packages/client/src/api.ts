export type { CheckStep } from './check-way.js';
export { Collection, type Changes, type CollectionOptions, type WriteOptions } from './collection.js';
export { isProblem } from './connection.js';
export { ConnectionError, type ConnectionState, type Token } from './link.js';
export type { ConnectOptions } from './options.js';
export type { OnRefused, Refused } from './outbox.js';
export { Query, type QueryParts, type TypedListing } from './query.js';
export { MisfitError, type DataOf, type Misfit, type OnMisfit, type Schema } from './schema.js';
export type { OpenSocket, SocketLike } from './socket.js';
export {
  MemoryStorage,
  type ClientStorage,
  type KeptUpload,
  type OutboxEntry,
  type StoredView,
} from './storage/storage.js';
export { Store } from './store.js';
export { Transaction } from './transaction.js';
export type { Move, TypedDocument, View } from './view.js';
export { Watch } from './watch.js';
export { Condition, field, FieldName, where, type Quotable } from './where.js';
export { ProblemError } from '@uproar/protocol/problem-error';
export type { Adjustments, Document, JsonObject, JsonPatch, JsonValue } from '@uproar/core';
export type { CollectionSummary, Listing, Problem, Receipt, WatchTarget } from '@uproar/protocol';

export type { Files, RefusedUpload, UploadOptions } from './files.js';
