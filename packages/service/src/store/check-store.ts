import Database from 'better-sqlite3';
import { indexKey, orderValue, parseOrder, type Document } from '@uproar/core';
import { checkContents } from './check-contents.js';
import { readStored, type StoredDocument } from './documents.js';
import { APPLICATION_ID } from './open-database.js';
import { MIGRATIONS } from './migrations/index.js';
import { storageProblem } from './storage-health.js';
import { StoreError } from './store-error.js';

/** One check and its faults; empty if there are none. */
export interface CheckResult {
  what: string;
  faults: string[];
}

/** What a check found. */
export interface CheckReport {
  storeId: string;
  seq: number;
  documents: number;
  results: CheckResult[];
  sound: boolean;
}

/** Faults of one kind that are named. */
const MAX_FAULTS = 10;

const SIZES = `
  SELECT collections.name, collections.documents AS saidDocuments, collections.size_bytes AS saidBytes,
         COUNT(documents.number) AS documents, COALESCE(SUM(OCTET_LENGTH(documents.data)), 0) AS bytes
  FROM collections LEFT JOIN documents ON documents.collection = collections.number GROUP BY collections.number`;
const BAD_DATA = `
  SELECT collection, id, CASE WHEN json_valid(data) THEN 'is not an object' ELSE 'is not JSON' END AS fault
  FROM documents WHERE CASE WHEN json_valid(data) THEN json_type(data) <> 'object' ELSE TRUE END LIMIT ?`;
const BAD_VERSION = 'SELECT collection, id, version FROM documents WHERE version < 1 OR version > ? LIMIT ?';
const JOURNAL = 'SELECT COUNT(*) AS count, COALESCE(MIN(seq), 0) AS first, COALESCE(MAX(seq), 0) AS last FROM commits';
const LOST_CHANGES = `
  SELECT changes.seq FROM changes LEFT JOIN commits USING (seq)
  WHERE commits.seq IS NULL AND changes.seq >= ? LIMIT ?`;
const MISPLACED = `
  SELECT commits.seq FROM commits JOIN changes ON changes.number = commits.first_change
  WHERE changes.seq < commits.seq LIMIT ?`;
const LATEST = `
  SELECT changes.collection, changes.document, changes.seq
  FROM (SELECT MAX(number) AS number FROM changes GROUP BY collection, document) AS latest
  JOIN changes USING (number)
  LEFT JOIN documents ON documents.collection = changes.collection AND documents.id = changes.document
  WHERE documents.data IS NOT changes.after OR (documents.version IS NOT NULL AND documents.version <> changes.seq)
  LIMIT ?`;

/**
 * Checks a store file, also one in use: the structures of SQLite, the counts, the documents, the journal and its
 * agreement with the documents, and every entry of every index.
 *
 * @param onCheck called with the next check
 * @throws {StoreError} when the file is not a store
 */
export function checkStore(file: string, onCheck: (what: string) => void = () => undefined): CheckReport {
  const database = openForCheck(file);
  try {
    const results: CheckResult[] = [];
    const check = (what: string, find: () => string[]) => {
      onCheck(what);
      results.push({ what, faults: find() });
    };
    const names = new Map(
      database
        .prepare<[], { number: number; name: string }>('SELECT number, name FROM collections')
        .all()
        .map(({ number, name }) => [number, name]),
    );
    const address = ({ collection, id }: { collection: number; id: string }) => `${names.get(collection) ?? '?'}/${id}`;
    const journal = database.prepare<[], { count: number; first: number; last: number }>(JOURNAL).get()!;

    check('the file', () =>
      database
        .prepare<[], string>(`PRAGMA integrity_check(${MAX_FAULTS})`)
        .pluck()
        .all()
        .filter((line) => line !== 'ok'),
    );
    check('the documents', () => [
      ...database
        .prepare<[number], { collection: number; id: string; fault: string }>(BAD_DATA)
        .all(MAX_FAULTS)
        .map((row) => `The data of ${address(row)} ${row.fault}.`),
      ...database
        .prepare<[number, number], { collection: number; id: string; version: number }>(BAD_VERSION)
        .all(journal.last, MAX_FAULTS)
        .map((row) => `${address(row)} has version ${row.version}, but the journal ends at ${journal.last}.`),
    ]);
    let documents = 0;
    check('the counts', () =>
      database
        .prepare<[], { name: string; saidDocuments: number; saidBytes: number; documents: number; bytes: number }>(
          SIZES,
        )
        .all()
        .flatMap((row) => {
          documents += row.documents;
          const same = row.saidDocuments === row.documents && row.saidBytes === row.bytes;
          return same
            ? []
            : `${row.name} should have ${row.saidDocuments} documents with ${row.saidBytes} bytes, but has ${row.documents} with ${row.bytes}.`;
        }),
    );
    check('the journal', () => {
      const expected = journal.last === 0 ? 0 : journal.last - journal.first + 1;
      const gap = expected - journal.count;
      return [
        ...(gap === 0 ? [] : [`${gap} commits are missing between ${journal.first} and ${journal.last}.`]),
        ...database
          .prepare<[number, number], number>(LOST_CHANGES)
          .pluck()
          .all(journal.first, MAX_FAULTS)
          .map((seq) => `The journal has changes of commit ${seq}, but not the commit.`),
        ...database
          .prepare<[number], number>(MISPLACED)
          .pluck()
          .all(MAX_FAULTS)
          .map((seq) => `Commit ${seq} points to changes of an earlier one.`),
      ];
    });
    check('journal against documents', () =>
      database
        .prepare<[number], { collection: number; document: string; seq: number }>(LATEST)
        .all(MAX_FAULTS)
        .map(
          ({ collection, document, seq }) =>
            `${address({ collection, id: document })} differs from the state after commit ${seq}.`,
        ),
    );
    check('the indexes', () => checkIndexes(database, names));
    check('the files', () => checkContents(database, file, MAX_FAULTS));
    return {
      storeId: database.prepare<[], string>("SELECT value FROM store WHERE name = 'id'").pluck().get() ?? '',
      seq: journal.last,
      documents,
      results,
      sound: results.every(({ faults }) => faults.length === 0),
    };
  } catch (error) {
    if (!(error instanceof Database.SqliteError) || !storageProblem(error)) throw error;
    throw new StoreError('damaged', `${file} is damaged (${error.message}). Restore a backup with uproar restore.`, {
      cause: error,
    });
  } finally {
    database.close();
  }
}

function openForCheck(file: string): Database.Database {
  let database: Database.Database | undefined;
  try {
    database = new Database(file, { readonly: true, fileMustExist: true });
    database.exec('BEGIN');
    const application = database.pragma('application_id', { simple: true });
    const format = database.pragma('user_version', { simple: true }) as number;
    if (application !== APPLICATION_ID) throw new StoreError('not-a-store', `${file} is not an Uproar store.`);
    if (format !== MIGRATIONS.length) {
      throw new StoreError(
        'newer-format',
        `${file} has format ${format}, this version has ${MIGRATIONS.length}. Check it with the version that wrote it.`,
      );
    }
    return database;
  } catch (error) {
    database?.close();
    if (!(error instanceof Database.SqliteError)) throw error;
    throw new StoreError('damaged', `${file} cannot be read as a store (${error.message}).`, { cause: error });
  }
}

/** Every document has its entry in each index of its collection, with the keys it should have, and there are no others. */
function checkIndexes(database: Database.Database, names: Map<number, string>): string[] {
  const indexes = database
    .prepare<[], { number: number; collection: number; fields: string }>(
      'SELECT number, collection, fields FROM indexes JOIN ready_indexes USING (number)',
    )
    .all();
  return indexes.flatMap(({ number, collection, fields }) => {
    const what = `Index ${names.get(collection)} ${fields}`;
    const terms = parseOrder(fields);
    const columns = terms.map((_, index) => `k${index} = ?`).join(' AND ');
    const find = database
      .prepare<unknown[], number>(`SELECT document FROM index_${number} WHERE ${columns} AND id = ?`)
      .pluck();
    const faults: string[] = [];
    let documents = 0;
    for (const stored of database
      .prepare<[number], StoredDocument>('SELECT * FROM documents WHERE collection = ?')
      .iterate(collection)) {
      documents++;
      const document = readIfSound(stored);
      if (!document) continue;
      const keys = terms.map((term) => Buffer.from(indexKey(orderValue(document, term))));
      if (find.get(...keys, stored.id) !== stored.number && faults.length < MAX_FAULTS) {
        faults.push(`${what} lacks ${names.get(collection)}/${stored.id}.`);
      }
    }
    const entries = database.prepare<[], number>(`SELECT COUNT(*) FROM index_${number}`).pluck().get()!;
    if (entries !== documents) faults.push(`${what} has ${entries} entries for ${documents} documents.`);
    return faults;
  });
}

/** A document; undefined if its data is not JSON, which is reported elsewhere. */
function readIfSound(stored: StoredDocument): Document | undefined {
  try {
    return readStored(stored);
  } catch {
    return undefined;
  }
}
