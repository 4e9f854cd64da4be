/** The first store format: documents, the journal of commits, and keys. */
export const SQL = `
  CREATE TABLE store (
    name  TEXT PRIMARY KEY,
    value TEXT NOT NULL
  ) STRICT, WITHOUT ROWID;

  CREATE TABLE collections (
    number     INTEGER PRIMARY KEY,
    name       TEXT    NOT NULL UNIQUE,
    documents  INTEGER NOT NULL,
    size_bytes INTEGER NOT NULL,
    created    INTEGER NOT NULL,
    updated    INTEGER NOT NULL,
    version    INTEGER NOT NULL
  ) STRICT;

  CREATE TABLE documents (
    number     INTEGER PRIMARY KEY,
    collection INTEGER NOT NULL,
    id         TEXT    NOT NULL,
    version    INTEGER NOT NULL,
    created    INTEGER NOT NULL,
    updated    INTEGER NOT NULL,
    data       TEXT    NOT NULL,
    UNIQUE (collection, id)
  ) STRICT;

  CREATE TABLE commits (
    seq    INTEGER PRIMARY KEY,
    id     TEXT,
    time   INTEGER NOT NULL,
    author TEXT    NOT NULL
  ) STRICT;

  CREATE TABLE changes (
    number         INTEGER PRIMARY KEY,
    seq            INTEGER NOT NULL,
    collection     INTEGER NOT NULL,
    document       TEXT    NOT NULL,
    version_before INTEGER,
    created_before INTEGER,
    updated_before INTEGER,
    before         TEXT,
    created_after  INTEGER,
    after          TEXT
  ) STRICT;

  CREATE INDEX changes_by_collection ON changes (collection, seq);
  CREATE INDEX changes_by_document ON changes (collection, document, seq);

  CREATE TABLE keys (
    id      TEXT PRIMARY KEY,
    name    TEXT    NOT NULL,
    hash    BLOB    NOT NULL UNIQUE,
    created INTEGER NOT NULL
  ) STRICT, WITHOUT ROWID;
`;
