/**
 * The position in the log, and what each node keeps for itself apart from the state: the last use of keys, which indexes
 * are filled, and single values. Of each content, the place in the log at which it was last received.
 */
export const SQL = `
  CREATE TABLE log (
    place      INTEGER NOT NULL,
    hash       TEXT    NOT NULL,
    generation TEXT    NOT NULL,
    time       INTEGER NOT NULL
  ) STRICT;
  INSERT INTO log (place, hash, generation, time)
  SELECT 0, '', '', COALESCE((SELECT MAX(time) FROM commits), 0);

  CREATE TABLE local (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
  ) STRICT, WITHOUT ROWID;
  INSERT INTO local (name, value) SELECT name, value FROM store WHERE name = 'last-id-ms';
  DELETE FROM store WHERE name IN ('last-id-ms', 'last-trial');

  CREATE TABLE key_uses (
    id   TEXT PRIMARY KEY,
    used INTEGER NOT NULL
  ) STRICT, WITHOUT ROWID;
  INSERT INTO key_uses (id, used) SELECT id, used FROM keys WHERE used IS NOT NULL;
  ALTER TABLE keys DROP COLUMN used;

  CREATE TABLE ready_indexes (number INTEGER PRIMARY KEY) STRICT;
  INSERT INTO ready_indexes (number) SELECT number FROM indexes WHERE ready = 1;
  ALTER TABLE indexes DROP COLUMN ready;

  ALTER TABLE contents ADD COLUMN received INTEGER NOT NULL DEFAULT 0;
`;
