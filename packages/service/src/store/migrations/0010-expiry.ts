/** For documents that end by themselves. */
export const SQL = `
  ALTER TABLE documents ADD COLUMN expires INTEGER;
  CREATE INDEX documents_by_end ON documents (expires) WHERE expires IS NOT NULL;

  ALTER TABLE changes ADD COLUMN expires_before INTEGER;
  ALTER TABLE changes ADD COLUMN expires_after INTEGER;
`;
