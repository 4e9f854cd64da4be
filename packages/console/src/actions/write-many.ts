import type { Store } from '@uproar/client';
import { guardedPatch, keepEnd } from '@uproar/core';
import { Button } from 'ant-design-vue';
import { h } from 'vue';
import type { Notices } from '../shared/injection';
import { commitEach, type Outcome, type Progress } from './commit-each';
import { saveLines } from './export-shown';
import { countOf, nameAll } from './name-documents';
import type { PlannedWrite } from './planned-write';

/** What is said of the writes. */
export interface WriteWords {
  /** Such as `Changed`; the number of documents follows. */
  done: string;
  /** Such as `Not changed`. */
  failed: string;
  /** Set where this undoes writes: what is said when they are done again. */
  redo?: WriteWords;
}

/** How long writes can be undone from the notice, in seconds. */
const UNDO_SECONDS = 60;
/** With more documents, what they were is not kept in memory, and cannot be undone. */
export const MOST_UNDONE = 20_000;

/**
 * Writes documents, each only if what is written still is as it was planned, and offers to undo all of it as one step. Those
 * that could not be written are named.
 */
export async function writeMany(
  store: Store,
  notices: Notices,
  collection: string,
  writes: readonly PlannedWrite[],
  words: WriteWords,
  progress: Pick<Progress<PlannedWrite>, 'signal' | 'onWritten'> = {},
): Promise<Outcome<PlannedWrite>> {
  const versions = new Map<string, number>();
  const outcome = await commitEach(store, writes, (write) => writeOf(collection, write), {
    ...progress,
    onWritten: (items, kept, documents) => {
      for (const { id, version } of documents) versions.set(id, version);
      progress.onWritten?.(items, kept, documents);
    },
  });
  const key = `writes-${collection}-${writes[0]?.id ?? ''}`;
  if (outcome.written.length > MOST_UNDONE) {
    notices.success({ key, message: `${words.done} ${countOf(outcome.written)}`, duration: 6 });
  } else if (outcome.written.length > 0) {
    const back = outcome.written.map(({ id, now, to }): PlannedWrite => {
      const version = versions.get(id) ?? 0;
      return { id, now: to && { ...now, version, data: to }, to: now?.data, ...(to ? {} : keepEnd(now)) };
    });
    const opposite = words.redo ?? { done: 'Undone:', failed: 'Not undone', redo: words };
    const undo = () => {
      notices.info({ key, message: `Writing ${countOf(back)} …`, duration: 0 });
      void writeMany(store, notices, collection, back, opposite).then(() => notices.destroy(key));
    };
    notices.success({
      key: `${key}-${words.done}`,
      message: `${words.done} ${countOf(outcome.written)}`,
      duration: UNDO_SECONDS,
      btn: () =>
        h(
          Button,
          {
            size: 'small',
            onClick: () => {
              notices.destroy(`${key}-${words.done}`);
              undo();
            },
          },
          () => (words.redo ? 'Redo' : 'Undo'),
        ),
    });
  }
  reportFailed(notices, collection, outcome, words, key);
  return outcome;
}

function reportFailed(
  notices: Notices,
  collection: string,
  { refused, left, failure }: Outcome<PlannedWrite>,
  { failed }: WriteWords,
  key: string,
): void {
  const missing = [...refused.map(({ item }) => item), ...left];
  if (missing.length === 0) return;
  const conflict = refused.length > 0 && refused.every((one) => one.conflict);
  const reason = failure || (conflict ? 'Changed meanwhile' : (refused[0]?.reason ?? 'Stopped'));
  const planned = missing.flatMap(({ id, to }) => (to ? [{ id, data: to }] : [{ id }]));
  notices.error({
    key: `${key}-failed`,
    message: `${failed}: ${countOf(missing)}`,
    description: `${nameAll(missing)}. ${reason}${reason.endsWith('.') ? '' : '.'}`,
    btn: () =>
      h(
        Button,
        { size: 'small', onClick: () => saveLines(`${collection}-not-written`, planned) },
        () => 'Save as NDJSON',
      ),
  });
}

/** A changed document gets only the changed fields, if they still have the values that were seen. */
function writeOf(collection: string, { id, now, to, expires }: PlannedWrite) {
  const address = `${collection}/${id}`;
  if (now && to) return { patch: address, ops: guardedPatch(now.data, to) };
  const ifVersion = now?.version ?? 0;
  if (!to) return { delete: address, ifVersion };
  const lasts = expires !== undefined && Date.parse(expires) > Date.now();
  return { put: address, data: to, ifVersion, ...(lasts ? { expires } : {}) };
}
