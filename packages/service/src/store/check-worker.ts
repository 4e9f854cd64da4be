import { parentPort, workerData } from 'node:worker_threads';
import Database from 'better-sqlite3';
import { findDamage } from './find-damage.js';

/** Runs in a separate thread: checks the file of a store and reports damage. */
const { file } = workerData as { file: string };
const database = new Database(file, { readonly: true });
parentPort!.postMessage(findDamage(database));
database.close();
