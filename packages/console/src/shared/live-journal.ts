import { ProblemError, type Store } from '@uproar/client';
import type { JournalEvent, JournalPage } from '@uproar/protocol';

/** The selected part of the journal. */
export interface JournalPart {
  collection?: string | undefined;
  doc?: string | undefined;
  where?: string | undefined;
  /** Who made the changes, such as `key:tower`. */
  identity?: string | undefined;
}

/** Reads changes before a seq, the newest first. */
export function readJournal(
  store: Store,
  part: JournalPart,
  before: number | 'now',
  limit: number,
): Promise<JournalPage> {
  return store.fetch<JournalPage>(
    `/v1/journal?${parametersOf({ ...part, before: String(before), limit: String(limit) })}`,
  );
}

/** What happened to the document: `created`, `updated`, `deleted` or `erased`. */
export function kindOfChange({ type }: JournalEvent): 'created' | 'updated' | 'deleted' | 'erased' {
  return type.split('.').at(-1) as 'created' | 'updated' | 'deleted' | 'erased';
}

/**
 * How the journal is followed: large numbers of changes arrive in batches, and the state of the stream is reported.
 */
export interface JournalFollower {
  events: (events: JournalEvent[]) => void;
  state: (state: 'live' | 'stale') => void;
  /** The stream cannot be resumed, for example because the journal was truncated: read the part again. */
  lost: () => void;
}

const AGAIN_MS = 1500;

/** Follows the journal after a seq, and reconnects by itself. Returns a stop function. */
export function followJournal(store: Store, part: JournalPart, after: number, follower: JournalFollower): () => void {
  const stop = new AbortController();
  let at = after;
  const run = async (): Promise<void> => {
    let rest = '';
    follower.state('live');
    const path = `/v1/journal?${parametersOf({ ...part, after: String(at) })}`;
    for await (const text of store.stream(path, undefined, 'text/event-stream', stop.signal)) {
      const lines = (rest + text).split('\n');
      rest = lines.pop()!;
      const events = lines.flatMap((line) => {
        const json = /^data: (\{"specversion".*)$/.exec(line)?.[1];
        return json === undefined ? [] : [JSON.parse(json) as JournalEvent];
      });
      for (const { seq } of events) at = Math.max(at, seq);
      if (events.length > 0) follower.events(events);
    }
  };
  void (async () => {
    while (!stop.signal.aborted) {
      const failure = await run().catch((error: unknown) => error);
      if (stop.signal.aborted) return;
      if (failure instanceof ProblemError && failure.problem.status < 500 && failure.problem.status !== 429) {
        return follower.lost();
      }
      follower.state('stale');
      await new Promise((resolve) => setTimeout(resolve, AGAIN_MS));
    }
  })();
  return () => stop.abort();
}

function parametersOf(parameters: Record<string, string | undefined>): URLSearchParams {
  return new URLSearchParams(Object.entries(parameters).flatMap(([name, value]) => (value ? [[name, value]] : [])));
}
