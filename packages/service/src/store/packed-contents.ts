import { closeSync, existsSync, fsyncSync, mkdirSync, openSync, renameSync, rmSync, writeSync } from 'node:fs';
import { open } from 'node:fs/promises';
import { dirname, join } from 'node:path';
import Database from 'better-sqlite3';
import { contentPath } from './content-path.js';

/** Contents are packed in pieces of this size, in bytes. */
const PIECE_BYTES = 1024 * 1024;

const CREATE = `
  CREATE TABLE packed_contents (
    sha256 TEXT NOT NULL, piece INTEGER NOT NULL, bytes BLOB NOT NULL, PRIMARY KEY (sha256, piece)
  ) STRICT, WITHOUT ROWID`;

/**
 * Adds the contents that a copy of a store refers to, piece by piece, so that the copy is one file.
 *
 * @param directory the data directory of the store
 * @param isOver whether the copy is no longer needed
 */
export async function packContents(file: string, directory: string, isOver: () => boolean): Promise<void> {
  const copy = new Database(file);
  try {
    copy.pragma('journal_mode = OFF');
    copy.pragma('synchronous = OFF');
    const used = copy.prepare<[], string>('SELECT sha256 FROM contents WHERE uses > 0').pluck().all();
    if (used.length === 0) return;
    copy.exec(CREATE);
    const insert = copy.prepare('INSERT INTO packed_contents (sha256, piece, bytes) VALUES (?, ?, ?)');
    const buffer = Buffer.alloc(PIECE_BYTES);
    for (const sha256 of used) {
      const content = await open(contentPath(join(directory, 'files'), sha256), 'r').catch(() => undefined);
      if (!content) continue;
      try {
        for (let piece = 0; ; piece++) {
          if (isOver()) throw new Error('The backup was removed.');
          const { bytesRead } = await content.read(buffer, 0, PIECE_BYTES);
          if (bytesRead === 0) break;
          insert.run(sha256, piece, buffer.subarray(0, bytesRead));
        }
      } finally {
        await content.close();
      }
    }
  } finally {
    copy.close();
  }
}

/** Takes the contents out of a copy and puts them where a store in the directory has them. */
export async function unpackContents(file: string, directory: string): Promise<void> {
  const copy = new Database(file);
  try {
    const packed = copy.prepare("SELECT 1 FROM sqlite_schema WHERE name = 'packed_contents'").get();
    if (!packed) return;
    const hashes = copy.prepare<[], string>('SELECT DISTINCT sha256 FROM packed_contents').pluck().all();
    const pieces = copy
      .prepare<[string], Buffer>('SELECT bytes FROM packed_contents WHERE sha256 = ? ORDER BY piece')
      .pluck();
    for (const sha256 of hashes) {
      const place = contentPath(join(directory, 'files'), sha256);
      if (existsSync(place)) continue;
      mkdirSync(dirname(place), { recursive: true, mode: 0o700 });
      writeWhole(place, pieces.iterate(sha256));
      await new Promise((resolve) => setImmediate(resolve));
    }
    copy.exec('DROP TABLE packed_contents');
    copy.exec('VACUUM');
  } finally {
    copy.close();
  }
}

function writeWhole(place: string, pieces: Iterable<Buffer>): void {
  const part = `${place}.part`;
  const descriptor = openSync(part, 'w', 0o600);
  try {
    for (const piece of pieces) writeSync(descriptor, piece);
    fsyncSync(descriptor);
    closeSync(descriptor);
    renameSync(part, place);
  } catch (error) {
    rmSync(part, { force: true });
    throw error;
  }
}
