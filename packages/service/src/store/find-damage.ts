import Database from 'better-sqlite3';

/** Checks the structure of a SQLite file. Returns the damage, if there is any. */
export function findDamage(database: Database.Database): string | undefined {
  try {
    const found = database.prepare<[], string>('PRAGMA quick_check(1)').pluck().get();
    return found === 'ok' ? undefined : (found ?? 'no answer').split('\n').slice(0, 2).join(' ');
  } catch (error) {
    if (error instanceof Database.SqliteError && /^SQLITE_(?:CORRUPT|NOTADB)/.test(error.code)) return error.message;
    throw error;
  }
}
