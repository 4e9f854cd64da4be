/** For hooks: subscriptions that deliver changes to an address. */
export const SQL = `
  CREATE TABLE hooks (
    id         TEXT PRIMARY KEY,
    name       TEXT NOT NULL UNIQUE,
    created    INTEGER NOT NULL,
    definition TEXT NOT NULL,
    secret     TEXT NOT NULL,
    old_secret TEXT,
    old_until  INTEGER,
    -- Why and since when it is paused, as JSON.
    paused     TEXT,
    -- Raised when its progress is set from outside, so that a report of earlier progress does not count.
    run        INTEGER NOT NULL,
    -- Every change up to this seq is delivered, except those of the open documents.
    seq        INTEGER NOT NULL,
    -- [id, seq of the first change that is not delivered, since when delivering fails or 0], as JSON.
    open       TEXT NOT NULL,
    -- The part of the journal that was removed before it was delivered, as JSON.
    missed     TEXT
  ) WITHOUT ROWID;

  -- What this node has sent; other nodes have their own.
  CREATE TABLE deliveries (
    number  INTEGER PRIMARY KEY,
    hook    TEXT NOT NULL,
    time    INTEGER NOT NULL,
    failed  INTEGER NOT NULL,
    details TEXT NOT NULL
  );
  CREATE INDEX deliveries_by_hook ON deliveries (hook, failed, number);
`;
