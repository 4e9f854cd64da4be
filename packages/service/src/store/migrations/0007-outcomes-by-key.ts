/**
 * Outcomes of commits with ids belong to a key, not to its name, which a later key may have too; those of senders without a key
 * belong to their content.
 */
export const SQL = `
  UPDATE outcomes SET author = author || ':environment' WHERE author = 'key:environment';
  UPDATE outcomes
  SET author = author || ':' || (SELECT id FROM keys WHERE 'key:' || keys.name = outcomes.author)
  WHERE EXISTS (SELECT 1 FROM keys WHERE 'key:' || keys.name = outcomes.author AND outcomes.time >= keys.created);
  UPDATE outcomes SET author = author || digest WHERE author IN ('anonymous:', 'open:');
`;
