/**
 * Everything on the wire between Uproar's service and its clients, declared once with Zod. Types are inferred
 * from the declarations, and the OpenAPI document is made from them.
 *
 * @packageDocumentation
 */
export * from './access.js';
export * from './cluster.js';
export * from './commits.js';
export * from './documents.js';
export * from './erasures.js';
export * from './hooks.js';
export * from './journal.js';
export * from './live.js';
export * from './operations.js';
export * from './problem-catalogue.js';
export * from './problem-error.js';
export * from './problems.js';
export * from './rpc.js';
export * from './schemas.js';
export * from './setup.js';
export * from './shapes.js';
export * from './timing.js';
export * from './usage.js';
