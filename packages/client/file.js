import { fileURLToPath } from 'node:url';

/** The client as one file for browsers, which needs no bundler. */
export const CLIENT_FILE = fileURLToPath(new URL('./dist/bundle/uproar.js', import.meta.url));
