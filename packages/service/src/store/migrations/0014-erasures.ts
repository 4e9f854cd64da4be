/** For erasures: documents that were removed with their past, and which backups were made. */
export const SQL = `
  -- 0: as it was written. 1: its contents were erased. 2: the erasure itself.
  ALTER TABLE changes ADD COLUMN erased INTEGER NOT NULL DEFAULT 0;

  CREATE TABLE erasures (
    id            TEXT PRIMARY KEY,
    time          INTEGER NOT NULL,
    author        TEXT NOT NULL,
    collection    TEXT NOT NULL,
    reason        TEXT,
    -- 1: the ids of the documents are erased, too.
    forgets_ids   INTEGER NOT NULL,
    documents     INTEGER NOT NULL,
    changes       INTEGER NOT NULL,
    -- The oldest commit that was erased from, and the newest commit of the erasure.
    first_seq     INTEGER,
    seq           INTEGER NOT NULL,
    -- The place of its newest record in the log.
    place         INTEGER NOT NULL,
    -- Idempotency records up to this one have been looked at, as JSON; NULL when all have.
    outcomes_upto TEXT
  ) STRICT, WITHOUT ROWID;
  CREATE INDEX erasures_by_collection ON erasures (collection, seq);

  CREATE TABLE backups (
    id         TEXT PRIMARY KEY,
    time       INTEGER NOT NULL,
    author     TEXT NOT NULL,
    seq        INTEGER NOT NULL,
    size_bytes INTEGER NOT NULL,
    sha256     TEXT NOT NULL
  ) STRICT, WITHOUT ROWID;
`;
