/** Secondary indexes and their fields. Each has its own table, `index_<number>`. */
export const SQL = `
  CREATE TABLE indexes (
    number     INTEGER PRIMARY KEY,
    collection INTEGER NOT NULL,
    fields     TEXT    NOT NULL,
    ready      INTEGER NOT NULL,
    created    INTEGER NOT NULL,
    UNIQUE (collection, fields)
  ) STRICT;
`;
