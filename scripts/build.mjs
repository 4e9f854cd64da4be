// Installs what is missing and builds what is stale: `npm run build`.
import { makeReady } from './ready.mjs';

makeReady();
