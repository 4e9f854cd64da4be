import type Database from 'better-sqlite3';

/** A statement that reads. */
export interface ReadStatement<Parameters extends unknown[], Row> {
  get(...parameters: Parameters): Row | undefined;
  all(...parameters: Parameters): Row[];
  iterate(...parameters: Parameters): IterableIterator<Row>;
}

/** Reads the store at its present state on disk. */
export interface Reads {
  /** A statement, prepared once. Do not keep it: it reads the state at the time of this call. */
  statement<Parameters extends unknown[], Row>(sql: string): ReadStatement<Parameters, Row>;
  /** As {@link statement}, each row as an array of its columns, which is read faster. */
  rows<Parameters extends unknown[], Row extends unknown[]>(sql: string): ReadStatement<Parameters, Row>;
  /** As {@link statement}, for the only column of each row. */
  values<Parameters extends unknown[], Value>(sql: string): ReadStatement<Parameters, Value>;
}

/** The statements of one connection, each prepared once. */
export class ConnectionReads implements Reads {
  readonly #database: Database.Database;
  readonly #statements = new Map<string, Database.Statement>();
  readonly #rows = new Map<string, Database.Statement>();
  readonly #values = new Map<string, Database.Statement>();

  constructor(database: Database.Database) {
    this.#database = database;
  }

  statement<Parameters extends unknown[], Row>(sql: string): ReadStatement<Parameters, Row> {
    let statement = this.#statements.get(sql);
    if (!statement) keep(this.#statements, sql, (statement = this.#database.prepare(sql)));
    return statement as unknown as ReadStatement<Parameters, Row>;
  }

  rows<Parameters extends unknown[], Row extends unknown[]>(sql: string): ReadStatement<Parameters, Row> {
    let statement = this.#rows.get(sql);
    if (!statement) keep(this.#rows, sql, (statement = this.#database.prepare(sql).raw()));
    return statement as unknown as ReadStatement<Parameters, Row>;
  }

  values<Parameters extends unknown[], Value>(sql: string): ReadStatement<Parameters, Value> {
    let statement = this.#values.get(sql);
    if (!statement) keep(this.#values, sql, (statement = this.#database.prepare(sql).pluck()));
    return statement as unknown as ReadStatement<Parameters, Value>;
  }
}

/** The number of prepared statements that are kept. */
const MAX_STATEMENTS = 500;

function keep(statements: Map<string, Database.Statement>, sql: string, statement: Database.Statement): void {
  if (statements.size >= MAX_STATEMENTS) statements.clear();
  statements.set(sql, statement);
}
