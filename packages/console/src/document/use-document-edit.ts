import type { Document, JsonObject } from '@uproar/client';
import { mergeEdits } from '@uproar/core';
import { computed, reactive, ref, shallowRef, watch, type ComputedRef, type Ref } from 'vue';
import { readData } from '../shared/check-data';
import { dropDraft, keepDraft, readDraft } from '../unsaved/drafts';
import type { FormInputs } from './form-inputs';

interface Kept {
  base: Document;
  text: string;
  inputs: FormInputs;
  mode: 'JSON' | 'Form';
}

/** The edit of a document: it follows the store until something is edited, and then keeps the edit. */
export interface DocumentEdit {
  /** The document that the edit began with; undefined while none was read. */
  readonly base: Readonly<Ref<Document | undefined>>;
  /** The data as JSON, edited or not. */
  readonly text: Ref<string>;
  /** Text in the form that is not part of the data. */
  readonly inputs: FormInputs;
  readonly mode: Ref<'JSON' | 'Form'>;
  readonly dirty: ComputedRef<boolean>;
  /** Whether the edit comes from an earlier visit of the document. */
  readonly restored: Ref<boolean>;
  /** The data that the text stands for, or why it stands for none. */
  readonly checked: ComputedRef<{ data: JsonObject } | { fault: string }>;
  /** Whether the document has been written by others since the edit began. */
  readonly overtaken: ComputedRef<boolean>;
  /** Whether others have changed the same fields. */
  readonly conflicting: ComputedRef<boolean>;
  /** Takes a document from the store and discards the edit. */
  takeOver(document: Document): void;
  /** Continues with data that merges the edit with a document from the store. */
  settle(document: Document, data: JsonObject): void;
  /** Continues after a document was saved with some text; later typing stays an edit. */
  savedAs(document: Document, text: string): void;
}

/**
 * The edit of a document.
 *
 * @param address `balloons/bl-17`
 * @param now the document as the store has it
 */
export function useDocumentEdit(address: string, now: Readonly<Ref<Document | undefined>>): DocumentEdit {
  const key = `document:${address}`;
  const kept = readDraft<Kept>(key);
  const base = shallowRef(kept?.base);
  const text = ref(kept?.text ?? '');
  const mode = ref(kept?.mode ?? 'JSON');
  const restored = ref(kept !== undefined);
  const inputs = reactive<FormInputs>(kept?.inputs ?? { typed: {}, added: {}, former: {} });

  const faults = computed(() => Object.values(inputs.typed).filter(({ fault }) => fault !== ''));
  const dirty = computed(
    () =>
      base.value !== undefined &&
      (text.value !== format(base.value.data) ||
        Object.keys(inputs.typed).length > 0 ||
        Object.values(inputs.added).some(Boolean)),
  );
  const checked = computed(() => {
    const [first] = faults.value;
    if (first) return { fault: `${first.label}: ${first.fault}` };
    const [added] = Object.values(inputs.added).filter(Boolean);
    if (added) return { fault: `The field “${added}” is not added yet.` };
    return readData(text.value);
  });
  const overtaken = computed(() => dirty.value && now.value !== undefined && now.value.version !== base.value?.version);
  const conflicting = computed(() => {
    if (!overtaken.value || !base.value || !now.value || 'fault' in checked.value) return false;
    return mergeEdits(base.value.data, checked.value.data, now.value.data).conflicts.length > 0;
  });

  const forget = () => {
    restored.value = false;
    Object.assign(inputs, { typed: {}, added: {}, former: {} } satisfies FormInputs);
  };
  const takeOver = (document: Document) => {
    base.value = document;
    text.value = format(document.data);
    forget();
  };

  watch(
    now,
    (document) => {
      if (document && !dirty.value) takeOver(document);
    },
    { immediate: true },
  );
  watch(
    [base, text, mode, dirty, () => JSON.stringify(inputs)],
    () => {
      if (!dirty.value || !base.value) return dropDraft(key);
      const value: Kept = { base: base.value, text: text.value, inputs, mode: mode.value };
      keepDraft({ key, value, edit: { label: address, path: `/data/${address}` } });
    },
    { flush: 'sync' },
  );

  return {
    ...{ base, text, inputs, mode, dirty, restored, checked, overtaken, conflicting, takeOver },
    settle: (document, data) => {
      takeOver(document);
      text.value = format(data);
    },
    savedAs: (document, sent) => {
      const data = readData(sent);
      if (text.value === sent || 'fault' in data) return takeOver(document);
      base.value = { ...document, data: data.data };
      restored.value = false;
    },
  };
}

function format(data: JsonObject): string {
  return JSON.stringify(data, null, 2);
}
