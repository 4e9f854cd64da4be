import { patchForOrder, type Document } from '@uproar/core';
import type { Delta } from './source.js';

/**
 * The change of the state of a query with `ordered`: `{ "documents": { "<id>": document }, "ids": ["<id>"] }`.
 *
 * @param delta the change of the documents by id
 * @param before the documents shown before, in order
 * @param after the documents shown now, in order
 */
export function withOrder(delta: Delta, before: readonly Document[], after: readonly Document[]): Delta {
  const documents = delta.patch.map((operation) => ({ ...operation, path: `/documents${operation.path}` }));
  return { ...delta, patch: [...documents, ...patchForOrder(before.map(idOf), after.map(idOf), '/ids')] };
}

function idOf({ id }: Document): string {
  return id;
}
