import { fileURLToPath } from 'node:url';

/** Where the built console lies. */
export const CONSOLE_DIRECTORY = fileURLToPath(new URL('./dist', import.meta.url));
