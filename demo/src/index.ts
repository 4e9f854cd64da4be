/**
 * The demo: a made-up hot-air balloon festival, as documents and as devices that keep them lively.
 *
 * @packageDocumentation
 */
import { fileURLToPath } from 'node:url';

/** The folder with one NDJSON file for each collection of the festival. */
export const DATA_DIRECTORY = fileURLToPath(new URL('../data/', import.meta.url));

/** The program that plays the festival's devices; see `devices.ts`. */
export const DEVICES_PROGRAM = fileURLToPath(new URL('./devices.js', import.meta.url));

/** The folder of the page for a chase crew's phone. */
export const FIELD_DIRECTORY = fileURLToPath(new URL('../field/', import.meta.url));

/** The folder of the public board. */
export const BOARD_DIRECTORY = fileURLToPath(new URL('./board/', import.meta.url));

export { drawBalloon, type Pictured } from './pictures.js';

/** So many balloons have a picture. */
export const PICTURES = 12;

/** The collections of the festival, in the order in which they are brought in. */
export const COLLECTIONS = [
  ...['crews', 'balloons', 'pads', 'flights', 'stations', 'notices', 'gates', 'areas'],
  // What the console shows side by side.
  ...['console-queries', 'console-boards'],
] as const;

/**
 * The folder with the set-up of the festival: the policy, by which crews see their own data, spectators the public board, and
 * directors everything; and the indexes that it is looked up by.
 */
export const SETUP_DIRECTORY = fileURLToPath(new URL('../', import.meta.url));

/** People with accounts, and what the policy knows of them. */
export const PEOPLE = [
  { name: 'ada', claims: { role: 'crew', crew: 'c-2' } },
  { name: 'dora', claims: { role: 'director' } },
] as const;

/** The password of those accounts. */
export const PASSWORD = 'balloon-festival';
