/**
 * Code that the client loads once it is connected, so that the main file stays small: file uploads, transactions, the
 * connection check, presence, the HTTP transport and IndexedDB.
 */
export { openDB } from 'idb';
export { HttpLink } from './transport/http-link.js';
export { printViolation } from './schema/schema.js';
export { readText } from './transport/read-text.js';
export { findOriginRefused } from './transport/origin-refused.js';
export { warnOf } from './transport/warn-of-state.js';
export { checkConnection } from './transport/check-connection.js';
export { present } from './presence/presence.js';
export { repeatUntilDone } from './collections/transaction.js';
export { link, pendingUploads, resumeUploads, upload } from './files/send-file.js';
