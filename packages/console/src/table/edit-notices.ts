import type { JsonValue } from '@uproar/client';
import { Button } from 'ant-design-vue';
import { h } from 'vue';
import { useNotices } from '../shared/injection';
import { formatCell } from './fields';
import type { CellEditMessages } from './saved-edits';

/** How long the notice of a saved edit stands, in seconds. */
const SAVED_SECONDS = 6;

/** Notifications of saved cell edits, each with an undo button. */
export function useEditNotices(): CellEditMessages {
  const notices = useNotices();
  const key = 'cell-edit';
  const show = (value: JsonValue | undefined) => (value === undefined ? 'no value' : formatCell(value) || 'empty text');
  return {
    saved: ({ id, name, before, after }, undo) =>
      notices.success({
        key,
        message: `Saved ${name} of ${id}`,
        description: `${show(before)} → ${show(after)}`,
        duration: SAVED_SECONDS,
        btn: () => h(Button, { size: 'small', title: 'Ctrl+Z in the table', onClick: undo }, () => 'Undo'),
      }),
    undone: ({ id, name, before }) =>
      notices.info({ key, message: `${name} of ${id} is ${show(before)} again`, duration: 3 }),
    notUndone: ({ id, name }, reason) =>
      notices.error({ key, message: `The edit of ${name} of ${id} was not undone`, description: reason }),
  };
}
