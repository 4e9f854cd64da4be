export type { CheckStep } from './transport/check-connection.js';
export {
  Collection,
  type Changes,
  type CollectionOptions,
  type DocumentEnd,
  type WriteCondition,
  type WriteOptions,
} from './collections/collection.js';
export { isProblem } from './transport/problems.js';
export { ConnectionError, type ConnectionState, type Token } from './transport/link.js';
export type { ConnectOptions } from './options.js';
export type { OnRefused, Refused } from './outbox/outbox.js';
export type { Presence } from './presence/presence-handle.js';
export type {
  AdjustmentsOf,
  FieldList,
  FieldNames,
  FieldPath,
  FieldPointer,
  OrderList,
  PatchOf,
  TotalList,
} from './collections/field-types.js';
export { Query, type QueryParts, type TypedListing } from './collections/query.js';
export type { CollectionWrite, TypedCommit } from './collections/commit-types.js';
export type { IncludesOf, NoSchemas, RelatedOf } from './collections/related-types.js';
export {
  SchemaViolationError,
  type DataOf,
  type SchemaViolation,
  type OnViolation,
  type Schema,
  type Schemas,
} from './schema/schema.js';
export type { OpenSocket, SocketLike } from './transport/socket.js';
export {
  MemoryStorage,
  type ClientStorage,
  type KeptUpload,
  type OutboxEntry,
  type StoredView,
} from './storage/storage.js';
export { Store } from './store.js';
export type { Transaction } from './collections/transaction.js';
export type { AnyRelated, Move, TypedDocument, View } from './views/view.js';
export { Watch } from './views/watch.js';
export { Condition, field, FieldName, where, type Quotable } from './collections/where.js';
export { ProblemError } from '@uproar/protocol/problem-error';
export type { Adjustments, Document, JsonObject, JsonPatch, JsonValue } from '@uproar/core';
export type { CollectionSummary, Listing, Problem, Receipt, WatchTarget } from '@uproar/protocol';

export type { Files } from './files/files.js';
export type { RefusedUpload, UploadOptions } from './files/upload-options.js';
