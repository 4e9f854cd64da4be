import { SQL as documentsAndJournal } from './0001-documents-and-journal.js';
import { SQL as indexes } from './0002-indexes.js';
import { SQL as outcomes } from './0003-outcomes.js';
import { SQL as access } from './0004-access.js';
import { SQL as schemas } from './0005-schemas.js';
import { SQL as contents } from './0006-contents.js';
import { SQL as outcomesByKey } from './0007-outcomes-by-key.js';
import { SQL as log } from './0008-log.js';
import { SQL as logEntries } from './0009-log-entries.js';
import { SQL as expiry } from './0010-expiry.js';
import { SQL as hooks } from './0011-hooks.js';
import { SQL as holds } from './0012-holds.js';
import { SQL as usage } from './0013-usage.js';
import { SQL as erasures } from './0014-erasures.js';

/** The store formats, oldest first: number n is reached by running the first n. Never edited once released. */
export const MIGRATIONS: readonly string[] = [
  documentsAndJournal,
  indexes,
  outcomes,
  access,
  schemas,
  contents,
  outcomesByKey,
  log,
  logEntries,
  expiry,
  hooks,
  holds,
  usage,
  erasures,
];
