/**
 * What is needed now and then: sending files, finding out what is wrong with the connection, going without a WebSocket, and IndexedDB. It is
 * loaded once there is a connection, so that nothing has to wait for it.
 */
export { openDB } from 'idb';
export { HttpLink } from './http-link.js';
export { originRefused } from './origin-refused.js';
export { checkWay } from './check-way.js';
export { link, pendingUploads, resumeUploads, upload } from './send-file.js';
