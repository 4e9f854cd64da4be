/**
 * React hooks over the Uproar client.
 *
 * @packageDocumentation
 */
export { useConnection, usePending } from './use-store.js';
export { useDocument, useWatch, type DocumentView } from './use-watch.js';
export { PreparedWatch, WatchFailedError, usePreparedWatch } from './prepared-watch.js';
