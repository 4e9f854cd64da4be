/**
 * The client of Uproar, for browsers.
 *
 * @packageDocumentation
 */
export * from './api.js';
export { connect } from './browser.js';
export { IndexedDbStorage } from './storage/indexed-db.js';
