/**
 * What is needed now and then: sending files, and finding out what is wrong with the way to the store. It is loaded when it is
 * asked for, so that all others need not wait for it.
 */
export { checkWay } from './check-way.js';
export { link, send } from './send-file.js';
