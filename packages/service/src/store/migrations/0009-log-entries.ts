/**
 * For a log that several nodes share: who has written its entries, the parts of entries that came in several, and which
 * revision of the log service holds the last one.
 */
export const SQL = `
  CREATE TABLE producers (
    name  TEXT    PRIMARY KEY,
    next  INTEGER NOT NULL,
    place INTEGER NOT NULL
  ) STRICT, WITHOUT ROWID;

  CREATE TABLE entry_parts (
    producer TEXT    NOT NULL,
    part     INTEGER NOT NULL,
    bytes    BLOB    NOT NULL,
    PRIMARY KEY (producer, part)
  ) STRICT, WITHOUT ROWID;

  ALTER TABLE log ADD COLUMN revision INTEGER NOT NULL DEFAULT 0;
`;
