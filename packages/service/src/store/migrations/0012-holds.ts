/** For documents that live as long as a connection: which nodes hold them. */
export const SQL = `
  CREATE TABLE holds (
    collection TEXT NOT NULL,
    document   TEXT NOT NULL,
    node       TEXT NOT NULL,
    PRIMARY KEY (collection, document, node)
  ) WITHOUT ROWID;
`;
