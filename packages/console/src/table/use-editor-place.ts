import type { Document } from '@uproar/client';
import { computed, type ComputedRef, type Ref } from 'vue';
import type { CellEdit } from './cell-edits';
import type { Column } from './layout';

/** What the place of an editor follows from. */
export interface Grid {
  readonly documents: Readonly<Ref<readonly Document[]>>;
  /** The documents by their ids. */
  readonly byId: () => ReadonlyMap<string, Document>;
  readonly columns: () => readonly Column[];
  /** Where the first of these columns begins, in pixels. */
  readonly leftPx: () => number;
  readonly rowPx: number;
  /** The scroll position of the grid and its visible area, in pixels. */
  readonly top: Readonly<Ref<number>>;
  readonly height: Readonly<Ref<number>>;
  readonly width: Readonly<Ref<number>>;
}

/** Where the editor of a cell stands. */
export interface EditorPlace {
  /** Its position: in the cell, or at the top of the table while the cell is not in sight. */
  readonly style: ComputedRef<Record<string, string>>;
  /** The description of a cell that is scrolled out of sight; empty while the editor is in it. */
  readonly elsewhere: ComputedRef<string>;
  /** Whether a row is in sight, by its place among the documents; -1 is none. */
  isInSight(row: number): boolean;
}

const MIN_WIDTH_PX = 120;

/** Has the editor of a cell follow the cell, while rows come and go. */
export function useEditorPlace(editing: Readonly<Ref<CellEdit | undefined>>, grid: Grid): EditorPlace {
  const { documents, byId, columns, rowPx, top, height, width } = grid;
  const document = computed(() => byId().get(editing.value?.id ?? ''));
  const row = computed(() => (document.value ? documents.value.indexOf(document.value) : -1));
  const column = computed(() => columns().findIndex(({ key }) => key === editing.value?.column));
  const isInSight = (at: number) =>
    at !== -1 && (at + 1) * rowPx > top.value && (at + 2) * rowPx < top.value + height.value;

  const elsewhere = computed(() => {
    if (!document.value) return 'which is not in this result any more';
    if (column.value === -1) return 'whose column is not shown';
    if (isInSight(row.value)) return '';
    return row.value * rowPx < top.value ? 'which is further up' : 'which is further down';
  });
  const style = computed((): Record<string, string> => {
    if (elsewhere.value) return { width: `${width.value}px` };
    const before = columns()
      .slice(0, column.value)
      .reduce((sum, { widthPx }) => sum + widthPx, 0);
    const widthPx = Math.max(MIN_WIDTH_PX, columns()[column.value]!.widthPx);
    return { top: `${row.value * rowPx}px`, left: `${grid.leftPx() + before}px`, width: `${widthPx}px` };
  });
  return { style, elsewhere, isInSight };
}
