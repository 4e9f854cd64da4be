import { isProblem, ProblemError, type Store } from '@uproar/client';
import type { WireCommit } from '@uproar/protocol';
import { describeFailure } from '../shared/failure';

type Write = WireCommit['writes'][number];

/** What became of writes that do not depend on each other. */
export interface Outcome<Item> {
  written: Item[];
  /** Items whose writes were refused, and why. */
  refused: { item: Item; reason: string; conflict: boolean }[];
  /** Items that were not tried, because it was stopped or the connection failed; `failure` says why. */
  left: Item[];
  failure: string;
}

/** How {@link commitEach} is watched and stopped. */
export interface Progress<Item> {
  signal?: AbortSignal;
  /** Called for each commit with the items it wrote, the number of existing documents that were kept, and the written documents. */
  onWritten?(items: readonly Item[], kept: number, documents: readonly { id: string; version: number }[]): void;
  onRefused?(item: Item, reason: string): void;
}

/** Writes of one commit at most. */
const MAX_AT_ONCE = 500;

/**
 * Writes many documents in commits of up to 500, and takes out the ones that are refused, so that they do not keep the others
 * from being written. Commits get smaller while writes are refused, so that few are sent in vain.
 */
export async function commitEach<Item>(
  store: Store,
  items: readonly Item[],
  writeOf: (item: Item) => Write,
  { signal, onWritten, onRefused }: Progress<Item> = {},
): Promise<Outcome<Item>> {
  const outcome: Outcome<Item> = { written: [], refused: [], left: [], failure: '' };
  let most = MAX_AT_ONCE;
  let at = 0;
  while (at < items.length && !signal?.aborted) {
    const batch = items.slice(at, at + most);
    try {
      const { seq, documents } = await store.commit({ writes: batch.map(writeOf) });
      outcome.written.push(...batch);
      onWritten?.(batch, documents.filter(({ version }) => version !== seq && version !== 0).length, documents);
      at += batch.length;
      most = Math.min(MAX_AT_ONCE, most * 2);
    } catch (error) {
      const refusedAt = refusedWrite(error);
      if (refusedAt === undefined) {
        outcome.failure = describeFailure(error);
        break;
      }
      // What stands before a refused write is good. Where it is not said which write it is, smaller commits find it.
      if (batch.length > 1 && refusedAt !== 0) {
        most = refusedAt > 0 ? refusedAt : batch.length >> 1;
        continue;
      }
      const reason = describeFailure(error);
      const conflict = CONFLICTS.some((name) => isProblem(error, name));
      outcome.refused.push({ item: batch[0]!, reason, conflict });
      onRefused?.(batch[0]!, reason);
      at++;
      most = Math.max(1, most >> 1);
    }
  }
  outcome.left = items.slice(at);
  return outcome;
}

/** Problems of writes that were overtaken by others. */
const CONFLICTS = ['version-mismatch', 'no-such-document', 'test-failed'] as const;

/** Statuses of problems with the written data, as opposed to the service or the connection. */
const ABOUT_WRITES = [400, 403, 404, 409, 412, 413, 422];

/** Which write of a commit was refused; -1 where that is not said, undefined where the error is about no write. */
function refusedWrite(error: unknown): number | undefined {
  if (!(error instanceof ProblemError) || !ABOUT_WRITES.includes(error.problem.status)) return undefined;
  return error.problem.write ?? -1;
}
