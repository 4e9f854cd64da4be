/** Contents of files, which lie beside the SQLite file: how large each is, and how many documents have it. */
export const SQL = `
  CREATE TABLE contents (
    sha256 TEXT    PRIMARY KEY,
    size   INTEGER NOT NULL,
    uses   INTEGER NOT NULL,
    unused INTEGER
  ) STRICT, WITHOUT ROWID;
  CREATE INDEX contents_unused ON contents (unused) WHERE uses = 0;
`;
