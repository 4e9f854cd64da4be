import { mkdirSync, mkdtempSync, symlinkSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { copiesOf, copiesOfDocument, type Copy } from '../src/queries/copies.js';

/** A query with text that has to be quoted everywhere. */
export const QUERY = {
  from: 'balloons',
  where: `name = 'It''s "Amber" $HOME' OR altitude > 300`,
  order: '-altitude',
  limit: '2',
  fields: '',
  include: '',
  summary: '',
  by: '',
};

/** The copies of that query and of a document, by name. */
export function copiesFor(origin: string): { query: Record<string, string>; document: Record<string, string> } {
  const named = (copies: readonly Copy[]) => Object.fromEntries(copies.map(({ name, text }) => [name, text]));
  return { query: named(copiesOf(QUERY, origin)), document: named(copiesOfDocument('balloons', 'bl-1', origin)) };
}

/** An empty folder of an app that has the packages of this checkout. */
export function newAppFolder(): string {
  const folder = mkdtempSync(join(tmpdir(), 'uproar-copies-'));
  symlinkSync(fileURLToPath(new URL('../../../node_modules', import.meta.url)), join(folder, 'node_modules'));
  mkdirSync(join(folder, 'src'));
  return folder;
}
