import { ProblemError, type Document, type Store } from '@uproar/client';
import { Button } from 'ant-design-vue';
import type { NotificationInstance } from 'ant-design-vue/es/notification/interface';
import { h } from 'vue';

/** How long a deleted document can be put back from the notice, in seconds. */
const UNDO_SECONDS = 12;

/** Deletes a document as it is shown and offers to put it back. Returns whether it was deleted. */
export async function deleteWithUndo(
  store: Store,
  notices: NotificationInstance,
  collection: string,
  document: Document,
): Promise<boolean> {
  const { id, version, data } = document;
  const documents = store.collection(collection);
  try {
    await documents.delete(id, { ifVersion: version });
  } catch (error) {
    const description = error instanceof ProblemError ? error.problem.detail : String(error);
    notices.error({ message: `${id} was not deleted`, description });
    return false;
  }
  const key = `undo-${collection}-${id}`;
  const putBack = async () => {
    notices.destroy(key);
    try {
      await documents.put(id, data, { ifVersion: 0 });
      notices.success({ message: `${id} is back`, duration: 3 });
    } catch (error) {
      const description = error instanceof ProblemError ? error.problem.detail : String(error);
      notices.error({ message: `${id} could not be put back`, description });
    }
  };
  notices.info({
    key,
    message: `Deleted ${id}`,
    duration: UNDO_SECONDS,
    btn: () => h(Button, { type: 'primary', size: 'small', onClick: () => void putBack() }, () => 'Undo'),
  });
  return true;
}
