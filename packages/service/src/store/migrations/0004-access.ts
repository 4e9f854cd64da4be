/** Who may do what: scopes of keys, versions of the policy, accounts and their sessions, and the audit log. */
export const SQL = `
  ALTER TABLE keys ADD COLUMN scope TEXT NOT NULL DEFAULT 'admin';
  ALTER TABLE keys ADD COLUMN collections TEXT;
  ALTER TABLE keys ADD COLUMN expires INTEGER;
  ALTER TABLE keys ADD COLUMN used INTEGER;
  ALTER TABLE keys ADD COLUMN old_hash BLOB;
  ALTER TABLE keys ADD COLUMN old_until INTEGER;

  CREATE TABLE policies (
    version INTEGER PRIMARY KEY,
    time    INTEGER NOT NULL,
    author  TEXT    NOT NULL,
    note    TEXT,
    text    TEXT    NOT NULL
  ) STRICT;

  CREATE TABLE accounts (
    id       TEXT PRIMARY KEY,
    name     TEXT UNIQUE,
    password TEXT,
    claims   TEXT    NOT NULL,
    created  INTEGER NOT NULL,
    disabled INTEGER
  ) STRICT, WITHOUT ROWID;

  CREATE TABLE sessions (
    id           TEXT PRIMARY KEY,
    account      TEXT    NOT NULL REFERENCES accounts (id) ON DELETE CASCADE,
    started      INTEGER NOT NULL,
    access       BLOB    NOT NULL UNIQUE,
    access_until INTEGER NOT NULL,
    refresh      BLOB    NOT NULL UNIQUE,
    until        INTEGER NOT NULL,
    previous     BLOB,
    taken_up     INTEGER NOT NULL
  ) STRICT, WITHOUT ROWID;

  CREATE INDEX sessions_by_account ON sessions (account);

  CREATE TABLE spent_tokens (
    hash    BLOB PRIMARY KEY,
    session TEXT NOT NULL REFERENCES sessions (id) ON DELETE CASCADE
  ) STRICT, WITHOUT ROWID;

  CREATE INDEX spent_tokens_by_session ON spent_tokens (session);

  CREATE TABLE audit (
    number   INTEGER PRIMARY KEY,
    time     INTEGER NOT NULL,
    event    TEXT    NOT NULL,
    identity TEXT    NOT NULL,
    address  TEXT,
    request  TEXT,
    count    INTEGER NOT NULL,
    detail   TEXT    NOT NULL
  ) STRICT;
`;
