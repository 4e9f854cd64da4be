import type { Store } from '@uproar/client';
import { readJournal } from '../../shared/live-journal';
import { valueAt } from '../../table/fields';
import type { LineHistory } from './line-history';

/** Commits on a page of the journal. Few of them may concern the chart. */
const PAGE = 1000;
/** Commits that are read for one chart at most. */
const MOST_COMMITS = 50_000;

/**
 * Reads the earlier values of a field from the journal.
 *
 * @param since the moment up to which it is read, in milliseconds since 1970
 * @returns how far back the values are known: `since`, or later where the journal or {@link MOST_COMMITS} end before
 * @throws {ProblemError} if the journal may not be read
 */
export async function readBack(
  store: Store,
  query: { collection: string; where: string },
  path: readonly string[],
  since: number,
  history: LineHistory,
  signal: AbortSignal,
): Promise<number> {
  let before: number | 'now' = 'now';
  let reached = Date.now();
  for (let read = 0; read < MOST_COMMITS && reached > since && !signal.aborted; read += PAGE) {
    const part = { collection: query.collection, where: query.where || undefined };
    const page = await readJournal(store, part, before, PAGE);
    // The oldest first: of several values at one moment the last one holds.
    for (const { subject, time, data } of [...page.events].sort((a, b) => a.seq - b.seq)) {
      const id = subject.slice(subject.indexOf('/') + 1);
      const [now, earlier] = [data.after, data.before].map((document) => document && valueAt(document.data, path));
      history.add(id, Date.parse(time), typeof now === 'number' ? now : null);
      // The value from before the first change that is known.
      if (typeof earlier === 'number') history.add(id, Date.parse(data.before!.updated), earlier);
      reached = Math.min(reached, Date.parse(time));
    }
    if (!page.more) return since;
    before = page.seq;
  }
  return Math.max(since, reached);
}
