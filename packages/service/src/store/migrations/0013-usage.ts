/** For the counters of what each identity uses of each collection, by day. Days are counted since 1970, in UTC. */
export const SQL = `
  CREATE TABLE usage (
    day        INTEGER NOT NULL,
    identity   TEXT NOT NULL,
    -- Empty for what belongs to no collection, or to several.
    collection TEXT NOT NULL,
    requests   INTEGER NOT NULL,
    reads      INTEGER NOT NULL,
    examined   INTEGER NOT NULL,
    writes     INTEGER NOT NULL,
    deliveries INTEGER NOT NULL,
    sent_bytes INTEGER NOT NULL,
    PRIMARY KEY (day, identity, collection)
  ) WITHOUT ROWID;

  -- What was stored at the end of a day.
  CREATE TABLE stored_by_day (
    day        INTEGER NOT NULL,
    collection TEXT NOT NULL,
    documents  INTEGER NOT NULL,
    size_bytes INTEGER NOT NULL,
    PRIMARY KEY (day, collection)
  ) WITHOUT ROWID;

  -- The days on record, and how many rows of usage each has.
  CREATE TABLE usage_days (
    day  INTEGER PRIMARY KEY,
    rows INTEGER NOT NULL
  );
`;
