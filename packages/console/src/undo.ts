import { ProblemError, type Document, type Store } from '@uproar/client';
import { Button } from 'ant-design-vue';
import { h } from 'vue';
import type { Notices } from './injection';

/** How long deleted documents can be put back from the notice, in seconds. */
const UNDO_SECONDS = 12;

/** Writes of one commit. */
const AT_ONCE = 1000;

/** Deletes documents as they are shown and offers to put them back. Returns whether they were deleted. */
export async function deleteWithUndo(
  store: Store,
  notices: Notices,
  collection: string,
  documents: readonly Document[],
): Promise<boolean> {
  const what = documents.length === 1 ? documents[0]!.id : `${documents.length.toLocaleString()} documents`;
  const gone: Document[] = [];
  let failure: string | undefined;
  for (const part of parts(documents)) {
    try {
      const writes = part.map(({ id, version }) => ({ delete: `${collection}/${id}`, ifVersion: version }));
      await store.commit({ writes });
      gone.push(...part);
    } catch (error) {
      failure = error instanceof ProblemError ? error.problem.detail : String(error);
      break;
    }
  }
  if (failure !== undefined) {
    const message =
      gone.length === 0 ? `${what} not deleted` : `Only ${gone.length.toLocaleString()} of ${what} deleted`;
    notices.error({ message, description: failure });
  }
  if (gone.length === 0) return false;
  const deleted = gone.length === 1 ? gone[0]!.id : `${gone.length.toLocaleString()} documents`;
  const key = `undo-${collection}-${gone[0]!.id}`;
  const putBack = async () => {
    notices.destroy(key);
    try {
      for (const part of parts(gone)) {
        await store.commit({
          writes: part.map(({ id, data }) => ({ put: `${collection}/${id}`, data, ifVersion: 0 })),
        });
      }
      notices.success({ message: `${deleted} ${gone.length === 1 ? 'is' : 'are'} back`, duration: 3 });
    } catch (error) {
      const description = error instanceof ProblemError ? error.problem.detail : String(error);
      notices.error({ message: `${deleted} could not be put back`, description });
    }
  };
  notices.info({
    key,
    message: `Deleted ${deleted}`,
    duration: UNDO_SECONDS,
    btn: () => h(Button, { type: 'primary', size: 'small', onClick: () => void putBack() }, () => 'Undo'),
  });
  return failure === undefined;
}

function* parts(documents: readonly Document[]): Generator<Document[]> {
  for (let at = 0; at < documents.length; at += AT_ONCE) yield documents.slice(at, at + AT_ONCE);
}
