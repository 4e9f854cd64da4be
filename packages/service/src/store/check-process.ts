import Database from 'better-sqlite3';
import { findDamage } from './find-damage.js';

/** Runs in a process of its own: checks the file of a store and reports damage. */
const database = new Database(process.argv[2]!, { readonly: true });
process.send!({ damage: findDamage(database) });
database.close();
process.disconnect();
