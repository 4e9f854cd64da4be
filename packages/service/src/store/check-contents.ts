import { statSync } from 'node:fs';
import { dirname, join } from 'node:path';
import type Database from 'better-sqlite3';
import { contentPath } from './content-path.js';
import { FILES } from './contents.js';

const USES = `
  SELECT contents.sha256, contents.size, contents.uses, COALESCE(described.documents, 0) AS documents
  FROM contents LEFT JOIN (
    SELECT json_extract(data, '$.sha256') AS sha256, COUNT(*) AS documents FROM documents
    WHERE collection = (SELECT number FROM collections WHERE name = '${FILES}') GROUP BY 1
  ) AS described USING (sha256)`;

/** The faults in the contents of files: next to a store, or inside a backup. */
export function checkContents(database: Database.Database, file: string, most: number): string[] {
  const rows = database.prepare<[], { sha256: string; size: number; uses: number; documents: number }>(USES).all();
  const packed = database.prepare("SELECT 1 FROM sqlite_schema WHERE name = 'packed_contents'").get() !== undefined;
  const sizeOf = packed
    ? database
        .prepare<[string], number>('SELECT SUM(OCTET_LENGTH(bytes)) FROM packed_contents WHERE sha256 = ?')
        .pluck()
    : undefined;
  const faults: string[] = [];
  for (const { sha256, size, uses, documents } of rows) {
    if (faults.length >= most) break;
    if (uses !== documents) faults.push(`${sha256} should be used by ${uses} files, but is used by ${documents}.`);
    if (documents === 0) continue;
    const found = sizeOf
      ? (sizeOf.get(sha256) ?? (size === 0 ? 0 : undefined))
      : statSync(contentPath(join(dirname(file), 'files'), sha256), { throwIfNoEntry: false })?.size;
    if (found === undefined) faults.push(`The content ${sha256} is missing.`);
    else if (found !== size) faults.push(`The content ${sha256} has ${found} bytes instead of ${size}.`);
  }
  return faults;
}
