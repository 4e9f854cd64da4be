// Installs missing packages and builds stale parts: `npm run build`.
import { makeReady } from './ready.mjs';

makeReady();
