import type { Document, Store } from '@uproar/client';
import { deepEqual } from '@uproar/core';
import { Button } from 'ant-design-vue';
import { h } from 'vue';
import { commitEach, type Outcome } from './commit-each';
import { saveLines } from './export-shown';
import { countOf, nameAll } from './name-documents';
import { readEach } from './read-each';
import { describeFailure } from '../shared/failure';
import type { Notices } from '../shared/injection';

/** How long deleted documents can be restored from the notice, in seconds. */
const UNDO_SECONDS = 20;
/** The most attempts to delete a document that others write again with the same data. */
const MOST_ATTEMPTS = 20;

/**
 * Deletes documents as they are shown, and offers to put them back. One that was changed meanwhile stays and is named; the others
 * are deleted.
 *
 * @returns the documents that were not deleted
 */
export async function deleteWithUndo(
  store: Store,
  notices: Notices,
  collection: string,
  documents: readonly Document[],
): Promise<Document[]> {
  const remove = (some: readonly Document[]) =>
    commitEach(store, some, ({ id, version }) => ({ delete: `${collection}/${id}`, ifVersion: version }));
  const outcome = await remove(documents);
  // Documents that are often written again with the same data may lose several times.
  for (let attempt = 1; attempt < MOST_ATTEMPTS; attempt++) {
    const unchanged = await findUnchanged(store, collection, outcome);
    if (unchanged.length === 0) break;
    const next = await remove(unchanged);
    const tried = new Set(unchanged.map(({ id }) => id));
    outcome.written.push(...next.written);
    outcome.refused = [...outcome.refused.filter(({ item }) => !tried.has(item.id)), ...next.refused];
    outcome.left = [...outcome.left, ...next.left];
  }
  if (outcome.written.length > 0) offerUndo(store, notices, collection, outcome.written);
  const kept = [...outcome.refused.map(({ item }) => item), ...outcome.left];
  if (kept.length > 0) {
    const key = `kept-${collection}-${kept[0]!.id}`;
    const again = async () => {
      try {
        const now = await readNow(store, collection, kept);
        notices.destroy(key);
        if (now.length > 0) await deleteWithUndo(store, notices, collection, now);
        else notices.info({ message: `${nameAll(kept)} ${isOrAre(kept)} already deleted` });
      } catch (error) {
        notices.error({ message: `Not deleted: ${countOf(kept)}`, description: describeFailure(error) });
      }
    };
    notices.error({
      key,
      message: `Not deleted: ${countOf(kept)}`,
      description: describeRefused(outcome, 'Changed or deleted meanwhile'),
      duration: 0,
      btn: () => h(Button, { size: 'small', onClick: () => void again() }, () => 'Try again'),
    });
  }
  return kept;
}

/** Of the documents with a newer version than the shown one, those with unchanged data, in their current state. */
async function findUnchanged(store: Store, collection: string, { refused }: Outcome<Document>): Promise<Document[]> {
  const conflicts = refused.filter(({ conflict }) => conflict).map(({ item }) => item);
  const shown = new Map(conflicts.map((document) => [document.id, document.data]));
  const now = await readNow(store, collection, conflicts).catch(() => []);
  return now.filter(({ id, data }) => deepEqual(data, shown.get(id)!));
}

function offerUndo(store: Store, notices: Notices, collection: string, gone: readonly Document[]): void {
  const key = `undo-${collection}-${gone[0]!.id}`;
  notices.info({
    key,
    message: `Deleted ${countOf(gone)}`,
    duration: UNDO_SECONDS,
    btn: () =>
      h(
        Button,
        { type: 'primary', size: 'small', onClick: () => void putBack(store, notices, collection, gone, key) },
        () => 'Undo',
      ),
  });
}

/** Restores deleted documents. A document that has been created again meanwhile is kept and reported. */
async function putBack(
  store: Store,
  notices: Notices,
  collection: string,
  gone: readonly Document[],
  key: string,
): Promise<void> {
  notices.info({ key, message: `Restoring ${countOf(gone)} …`, duration: 0 });
  const outcome = await commitEach(store, gone, ({ id, data, expires }) => ({
    put: `${collection}/${id}`,
    data,
    ifVersion: 0,
    // A document whose end has passed meanwhile is restored without one.
    ...(expires !== undefined && Date.parse(expires) > Date.now() ? { expires } : {}),
  }));
  const missing = [...outcome.refused.map(({ item }) => item), ...outcome.left];
  if (outcome.written.length > 0) {
    const { written } = outcome;
    notices.success({ key, message: `Restored ${countOf(written)}`, duration: 4 });
  } else notices.destroy(key);
  if (missing.length === 0) return;
  const keep = () => saveLines(`${collection}-deleted`, missing);
  notices.error({
    key: `${key}-missing`,
    message: `Not restored: ${countOf(missing)}`,
    description: describeRefused(outcome, 'Created again meanwhile'),
    duration: 0,
    btn: () =>
      outcome.left.length > 0
        ? h(
            Button,
            { size: 'small', onClick: () => void putBack(store, notices, collection, missing, `${key}-missing`) },
            () => 'Try again',
          )
        : h(Button, { size: 'small', onClick: keep }, () => 'Save as NDJSON'),
  });
}

async function readNow(store: Store, collection: string, documents: readonly Document[]): Promise<Document[]> {
  const read = await readEach(documents, ({ id }) => store.collection(collection).get(id));
  return read.filter((document): document is Document => document !== undefined);
}

function describeRefused({ refused, failure }: Outcome<Document>, conflict: string): string {
  if (failure !== '') return failure;
  const reason = refused.every((one) => one.conflict) ? conflict : refused[0]!.reason;
  return refused.length === 1
    ? `${reason}.`.replace('..', '.')
    : `${nameAll(refused.map(({ item }) => item))}. ${reason}.`;
}

const isOrAre = (documents: readonly Document[]) => (documents.length === 1 ? 'is' : 'are');
