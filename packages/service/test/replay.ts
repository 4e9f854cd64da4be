import { createHash } from 'node:crypto';
import Database from 'better-sqlite3';
import { enableFullQueries } from '@uproar/core';
import { decodeBatch } from '../dist/state/records.js';
import { StateMachine, type AppliedBatch } from '../dist/state/state-machine.js';
import { MIGRATIONS } from '../dist/store/migrations/index.js';

/** What each node keeps for itself; other tables are the same everywhere. */
const LOCAL_TABLES = new Set(['local', 'key_uses', 'ready_indexes', 'audit', 'deliveries']);

/** A state in memory: empty, or a copy of another one. */
export class Replay {
  readonly database: Database.Database;
  readonly state: StateMachine;

  constructor(original?: Database.Database) {
    enableFullQueries();
    this.database = original ? copyOf(original) : new Database(':memory:');
    this.database.pragma('foreign_keys = ON');
    if (!original) for (const sql of MIGRATIONS) this.database.exec(sql);
    this.state = new StateMachine(this.database);
  }

  /** Applies a batch as it comes from a log. */
  apply(batch: string): AppliedBatch {
    const records = decodeBatch(batch);
    return this.database.transaction(() => {
      for (const record of records) this.state.apply(record);
      return this.state.finish();
    })();
  }

  /** Applies a batch, and rolls it back, as when the disk is full. */
  applyAndRollBack(batch: string): void {
    this.database.exec('BEGIN');
    for (const record of decodeBatch(batch)) this.state.apply(record);
    this.state.finish();
    this.database.exec('ROLLBACK');
    this.state.reload();
  }

  hash(): string {
    return createHash('sha256').update(dumpState(this.database)).digest('hex');
  }
}

function copyOf(original: Database.Database): Database.Database {
  const copy = new Database(':memory:');
  const statements = original
    .prepare<[], string>("SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY type = 'index'")
    .pluck()
    .all();
  for (const sql of statements) copy.exec(sql);
  for (const table of tablesOf(original)) {
    const rows = original.prepare(`SELECT * FROM ${table}`).raw().all() as unknown[][];
    const places = rows[0]?.map(() => '?').join(', ');
    for (const row of rows) copy.prepare(`INSERT INTO ${table} VALUES (${places})`).run(...row);
  }
  return copy;
}

function tablesOf(database: Database.Database): string[] {
  return database
    .prepare<[], string>(
      "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name",
    )
    .pluck()
    .all();
}

/** All rows of all tables that are not local, as text. */
export function dumpState(database: Database.Database): string {
  const tables = tablesOf(database).filter((name) => !LOCAL_TABLES.has(name));
  return tables.map((name) => `${name}\n${rowsOf(database, name)}`).join('\n');
}

function rowsOf(database: Database.Database, table: string): string {
  const encode = (_: string, value: unknown) =>
    value instanceof Object && 'type' in value && value.type === 'Buffer'
      ? Buffer.from((value as unknown as { data: number[] }).data).toString('hex')
      : value;
  return database
    .prepare(`SELECT * FROM ${table}`)
    .all()
    .map((row) => JSON.stringify(row, encode))
    .join('\n');
}

/** The lines that only one of two dumps has. */
export function differ(one: string, other: string): string[] {
  const [ones, others] = [new Set(one.split('\n')), new Set(other.split('\n'))];
  return [
    ...[...ones].filter((line) => !others.has(line)).map((line) => `only in the first: ${line}`),
    ...[...others].filter((line) => !ones.has(line)).map((line) => `only in the second: ${line}`),
  ];
}
