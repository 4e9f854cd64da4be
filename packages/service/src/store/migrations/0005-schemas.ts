/** Schemas of collections, with all their versions. */
export const SQL = `
  CREATE TABLE schemas (
    collection TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    time       INTEGER NOT NULL,
    author     TEXT    NOT NULL,
    note       TEXT,
    mode       TEXT    NOT NULL,
    schema     TEXT    NOT NULL,
    PRIMARY KEY (collection, version)
  ) STRICT, WITHOUT ROWID;
`;
