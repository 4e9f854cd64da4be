import type { View } from '@uproar/client';
import { joinName } from '@uproar/core';
import { computed, ref, shallowRef, watch, type ComputedRef, type Ref } from 'vue';
import { findFields, type Field } from './fields';

/** A column of the table. */
export interface Column extends Field {
  /** The same for one column always: the field's name, or `meta('updated')`. */
  key: string;
  /** Bookkeeping instead of a field. */
  meta: boolean;
  widthPx: number;
}

/** A person's settings for the columns of a collection. */
interface Layout {
  /** Keys in order; those not named follow. */
  order: string[];
  hidden: string[];
  widths: Record<string, number>;
  unfolded: string[];
}

/** The columns of a table, and what can be done with them. */
export interface Columns {
  /** All there are, in order. */
  readonly all: ComputedRef<Column[]>;
  readonly shown: ComputedRef<Column[]>;
  isShown(key: string): boolean;
  show(key: string, shown: boolean): void;
  /** Puts a column before another, or at the end. */
  move(key: string, before: string | undefined): void;
  resize(key: string, widthPx: number): void;
  /** Shows the members of an object as columns, or the object again. */
  unfold(name: string, unfolded: boolean): void;
  readonly unfolded: ComputedRef<readonly string[]>;
  /** True when it is not as it was found. */
  readonly altered: ComputedRef<boolean>;
  reset(): void;
}

const BOOKKEEPING = ['version', 'created', 'updated', 'expires'] as const;
const HIDDEN_AT_FIRST = ["meta('created')", "meta('updated')", "meta('expires')"];
const MIN_WIDTH_PX = 44;
const LOOK_AGAIN_MS = 1500;

/** The columns for what a view shows, as they were left the last time. */
export function useColumns(collection: string, view: Readonly<Ref<View | undefined>>): Columns {
  const item = `uproar-columns-${collection}`;
  const layout = ref(readLayout(item));
  const fields = shallowRef<Field[]>([]);

  // Fields stay where they are while documents come and go. Looking for new ones takes a while, so it is not done each time.
  let timer: ReturnType<typeof setTimeout> | undefined;
  const look = () => {
    timer = undefined;
    const found = findFields(view.value?.documents ?? [], new Set(layout.value.unfolded));
    const names = new Map(found.map((field) => [field.name, field]));
    const kept = fields.value.filter(({ name }) => names.has(name)).map(({ name }) => names.get(name)!);
    const known = new Set(kept.map(({ name }) => name));
    fields.value = [...kept, ...found.filter(({ name }) => !known.has(name))];
  };
  watch(
    () => view.value?.documents,
    () => {
      if (fields.value.length === 0) look();
      else timer ??= setTimeout(look, LOOK_AGAIN_MS);
    },
    { immediate: true },
  );

  const change = (changes: Partial<Layout>) => {
    layout.value = { ...layout.value, ...changes };
    localStorage.setItem(item, JSON.stringify(layout.value));
  };

  const all = computed(() => {
    const { order, widths } = layout.value;
    // Documents of which only some fields are shown come without bookkeeping.
    const kept = view.value?.documents[0]?.version === undefined ? [] : BOOKKEEPING;
    const columns = [...kept.map(bookkeeping), ...fields.value.map(columnOf)];
    const place = new Map(order.map((key, index) => [key, index]));
    return columns
      .map((column) => ({ ...column, widthPx: widths[column.key] ?? column.widthPx }))
      .sort((a, b) => (place.get(a.key) ?? Infinity) - (place.get(b.key) ?? Infinity) || 0);
  });
  const isShown = (key: string) => !layout.value.hidden.includes(key);
  return {
    all,
    shown: computed(() => all.value.filter(({ key }) => isShown(key))),
    isShown,
    show: (key, shown) => {
      const others = layout.value.hidden.filter((other) => other !== key);
      change({ hidden: shown ? others : [...others, key] });
    },
    move: (key, before) => {
      const keys = all.value.map((column) => column.key).filter((other) => other !== key);
      const at = before === undefined ? -1 : keys.indexOf(before);
      keys.splice(at === -1 ? keys.length : at, 0, key);
      change({ order: keys });
    },
    resize: (key, widthPx) =>
      change({ widths: { ...layout.value.widths, [key]: Math.max(MIN_WIDTH_PX, Math.round(widthPx)) } }),
    unfold: (name, unfolded) => {
      const others = layout.value.unfolded.filter((other) => other !== name && !other.startsWith(`${name}.`));
      const order = layout.value.order;
      change({ unfolded: unfolded ? [...others, name] : others });
      const before = fields.value;
      look();
      if (order.length === 0) fields.value = together(fields.value, before, name);
    },
    unfolded: computed(() => layout.value.unfolded),
    altered: computed(() => JSON.stringify(layout.value) !== JSON.stringify(FOUND)),
    reset: () => {
      localStorage.removeItem(item);
      layout.value = { ...FOUND };
      fields.value = [];
      look();
    },
  };
}

const FOUND: Layout = { order: [], hidden: HIDDEN_AT_FIRST, widths: {}, unfolded: [] };

function readLayout(item: string): Layout {
  try {
    return { ...FOUND, ...(JSON.parse(localStorage.getItem(item) ?? '{}') as Partial<Layout>) };
  } catch {
    return { ...FOUND };
  }
}

/** Puts the members of an object that was unfolded, or the object that was folded, where it stood before. */
function together(fields: Field[], before: Field[], name: string): Field[] {
  const belongs = (other: Field) => other.name === name || other.name.startsWith(`${name}.`);
  const at = before.findIndex(belongs);
  const rest = fields.filter((field) => !belongs(field));
  return [...rest.slice(0, at), ...fields.filter(belongs), ...rest.slice(at)];
}

function columnOf(field: Field): Column {
  const width = Math.max(field.longest * 7.4 + 24, field.name.length * 7.6 + 62);
  const widthPx = Math.round(Math.min(230, Math.max(72, width)));
  return { ...field, key: joinName(field.path), meta: false, widthPx };
}

function bookkeeping(name: (typeof BOOKKEEPING)[number]): Column {
  const version = name === 'version';
  return {
    key: `meta('${name}')`,
    name,
    path: [name],
    meta: true,
    numeric: version,
    type: version ? 'number' : 'time',
    ...{ kinds: 'metadata', count: 0, rare: false, near: [], longest: 0 },
    widthPx: version ? 88 : 168,
  };
}
