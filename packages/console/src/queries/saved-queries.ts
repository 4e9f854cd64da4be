import { isProblem, type JsonObject, type Store, type TypedDocument } from '@uproar/client';
import type { LocationQuery } from 'vue-router';
import { readParts, type BenchQuery } from './bench-query';
import { readPresentation, writePresentation, type Presentation } from '../result/presentation';

/** The collection of saved queries. They are ordinary documents: the policy decides who may see and change them. */
export const QUERIES = 'console-queries';
/** The collection of boards. */
export const BOARDS = 'console-boards';

/** A query with a name, and how its result is drawn. */
export interface SavedQuery {
  id: string;
  version: number;
  name: string;
  query: BenchQuery;
  presentation: Presentation;
}

const MAX_NAME = 80;

/** Reads a saved query; undefined if the document is none. */
export function readSavedQuery({ id, version, data }: TypedDocument): SavedQuery | undefined {
  const { query, show } = data as { query?: JsonObject; show?: JsonObject };
  if (typeof query?.from !== 'string') return undefined;
  return {
    ...{ id, version, name: typeof data.name === 'string' ? data.name : id },
    query: { from: query.from, ...readParts((name) => query[name]) },
    presentation: readPresentation(show ?? {}),
  };
}

/** A saved query as the data of its document. */
export function writeSavedQuery(name: string, query: BenchQuery, presentation: Presentation): JsonObject {
  const parts = Object.entries(query).filter(([, value]) => value !== '');
  return {
    name: name.trim().slice(0, MAX_NAME),
    query: Object.fromEntries(parts) as JsonObject,
    show: writePresentation(presentation),
  };
}

/** The address of a saved query on the page Query. */
export function addressOf({ id, query, presentation }: SavedQuery) {
  const parts = Object.entries(query).filter(([, value]) => value !== '');
  return { name: 'query', query: { ...Object.fromEntries(parts), ...writePresentation(presentation), saved: id } };
}

/** The part of an address that names the saved query it began with, unchanged. */
export function savedIn({ saved }: LocationQuery): LocationQuery {
  return saved === undefined ? {} : { saved };
}

/** A result on a board. */
export interface Tile {
  /** The id of a saved query. */
  query: string;
  /** In columns of the board, of which there are six. */
  width: number;
  /** In rows. */
  height: number;
}

/** Several results on one page. */
export interface Board {
  id: string;
  version: number;
  name: string;
  tiles: Tile[];
}

/** The most results on a board: each is a watch. */
export const MOST_TILES = 12;
export const COLUMNS = 6;
export const MOST_ROWS = 3;
const bounded = (value: unknown, low: number, high: number) =>
  typeof value === 'number' && Number.isInteger(value) ? Math.max(low, Math.min(high, value)) : low + 1;

/** Reads a board. What is none of its parts is left out. */
export function readBoard({ id, version, data }: TypedDocument): Board {
  const tiles = Array.isArray(data.tiles) ? (data.tiles as JsonObject[]) : [];
  return {
    ...{ id, version, name: typeof data.name === 'string' ? data.name : id },
    tiles: tiles
      .filter((tile) => typeof tile?.query === 'string')
      .slice(0, MOST_TILES)
      .map(({ query, width, height }) => ({
        query: query as string,
        width: bounded(width, 2, COLUMNS),
        height: bounded(height, 1, MOST_ROWS),
      })),
  };
}

/** How often a board is read again that others change at the same time. */
const MAX_TRIES = 5;

/**
 * Changes the tiles of a board as it is now.
 *
 * @param change gives the new tiles for the present ones; undefined leaves the board as it is
 * @throws {ProblemError} when the store refuses the write
 */
export async function changeTiles(
  store: Store,
  id: string,
  change: (tiles: readonly Tile[]) => readonly Tile[] | undefined,
): Promise<void> {
  for (let tries = 1; ; tries++) {
    const document = await store.collection(BOARDS).get(id);
    if (!document) throw new Error('The board was deleted.');
    const tiles = change(readBoard(document).tiles);
    if (!tiles) return;
    try {
      await store
        .collection(BOARDS)
        .merge(id, { tiles: tiles as unknown as JsonObject[] }, { ifVersion: document.version });
      return;
    } catch (error) {
      if (!isProblem(error, 'version-mismatch') || tries === MAX_TRIES) throw error;
    }
  }
}

/** An id from a name, for addresses people can read: `Balloons aloft` gives `balloons-aloft`. */
export function idFromName(name: string): string {
  const id = name
    .toLowerCase()
    .normalize('NFKD')
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 60);
  return id || 'query';
}

/** Creates a document under an id made of its name; with a number if there is one already. */
export async function createNamed(store: Store, collection: string, name: string, data: JsonObject): Promise<string> {
  const wanted = idFromName(name);
  const documents = store.collection(collection);
  for (let number = 1; ; number++) {
    const id = number === 1 ? wanted : `${wanted}-${number}`;
    if (await documents.get(id)) continue;
    await documents.put(id, data, { ifVersion: 0 });
    return id;
  }
}
