/**
 * Outcomes of commits by their ids; where in the journal the changes of each commit begin, so that a part of it is
 * found without looking at the rest; and how large the journal is.
 */
export const SQL = `
  CREATE TABLE outcomes (
    author  TEXT    NOT NULL,
    id      TEXT    NOT NULL,
    time    INTEGER NOT NULL,
    digest  TEXT    NOT NULL,
    outcome TEXT    NOT NULL,
    PRIMARY KEY (author, id)
  ) STRICT, WITHOUT ROWID;

  CREATE INDEX outcomes_by_time ON outcomes (time);

  ALTER TABLE commits ADD COLUMN first_change INTEGER NOT NULL DEFAULT 0;

  UPDATE commits SET first_change = found.first
  FROM (SELECT seq, MIN(number) AS first FROM changes GROUP BY seq) AS found
  WHERE found.seq = commits.seq;

  INSERT INTO store (name, value)
  SELECT 'journal-bytes', COALESCE(SUM(OCTET_LENGTH(COALESCE(before, '')) + OCTET_LENGTH(COALESCE(after, ''))), 0)
  FROM changes;
`;
