/**
 * What is needed now and then: sending files, and finding out what is wrong with the way to the store. It is loaded once there is
 * a connection, so that nothing has to wait for it.
 */
export { checkWay } from './check-way.js';
export { link, pendingUploads, resumeUploads, upload } from './send-file.js';
