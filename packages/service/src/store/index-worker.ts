import { parentPort, workerData } from 'node:worker_threads';
import Database from 'better-sqlite3';
import { enableFullQueries, parseOrder } from '@uproar/core';
import { keysOf, type IndexEntry } from '../state/index-table.js';
import { readStored, type StoredDocument } from '../state/stored-document.js';

/**
 * Runs in a separate thread: computes the entries of a new index, the next ones for each message. It may read documents
 * that are not on disk yet; an entry is only used while its document has this version.
 */
const { file, collection, fields, count } = workerData as {
  file: string;
  collection: number;
  fields: string;
  count: number;
};
enableFullQueries();
const terms = parseOrder(fields);
const database = new Database(file, { readonly: true });
const next = database.prepare<[number, string, number], StoredDocument>(
  'SELECT * FROM documents WHERE collection = ? AND id > ? ORDER BY id LIMIT ?',
);
let after = '';

parentPort!.on('message', (what: 'next' | 'end') => {
  if (what === 'end') {
    database.close();
    parentPort!.close();
    return;
  }
  const entries = next.all(collection, after, count).map((stored): IndexEntry => ({
    id: stored.id,
    document: stored.number,
    version: stored.version,
    keys: keysOf(readStored(stored), terms),
  }));
  after = entries.at(-1)?.id ?? after;
  parentPort!.postMessage(entries);
});
