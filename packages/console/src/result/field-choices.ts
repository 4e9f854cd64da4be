import type { Document } from '@uproar/client';
import { onScopeDispose, shallowRef, watch, type ShallowRef } from 'vue';
import { findFields, labelOf, type Field } from '../table/fields';
import type { Frame } from '../table/pausable-view';

/** The number of documents in which fields are looked for. */
const SAMPLE = 2000;
/** Levels of objects in which fields are looked for. */
const MAX_LEVELS = 4;
const LOOK_AGAIN_MS = 1500;

/** The fields of documents, with those inside of objects instead of the objects. */
export function findDeepFields(documents: readonly Document[]): Field[] {
  const sample = documents.slice(0, SAMPLE);
  const unfolded = new Set<string>();
  for (let level = 0; ; level++) {
    const fields = findFields(sample, unfolded);
    const objects = fields.filter(
      ({ type, kinds }) => type === 'object' || (type === 'mixed' && kinds.includes('object')),
    );
    const folded = objects.filter(({ name }) => !unfolded.has(name));
    if (folded.length === 0 || level === MAX_LEVELS) return fields;
    for (const { name } of folded) unfolded.add(name);
  }
}

/** The fields of what is shown, looked for again while it changes. */
export function useFieldChoices(frame: () => Frame): Readonly<ShallowRef<readonly Field[]>> {
  const fields = shallowRef<readonly Field[]>([]);
  let timer: ReturnType<typeof setTimeout> | undefined;
  const look = () => {
    timer = undefined;
    const found = findDeepFields(frame().view.documents);
    // A field does not vanish from a list while a person reads it.
    const names = new Set(found.map(({ name }) => name));
    fields.value = [...found, ...fields.value.filter(({ name }) => !names.has(name))];
  };
  watch(
    () => frame().view.documents,
    () => {
      if (fields.value.length === 0) look();
      else timer ??= setTimeout(look, LOOK_AGAIN_MS);
    },
    { immediate: true },
  );
  onScopeDispose(() => clearTimeout(timer));
  return fields;
}

/** The chosen field, or the first that fits. */
export function chooseField(
  fields: readonly Field[],
  chosen: string,
  fits: (field: Field) => boolean,
): Field | undefined {
  return fields.find(({ name }) => name === chosen) ?? fields.find(fits);
}

/** The field that most likely names a document: `name`, `title` or `label`, otherwise the first short text. */
export function labelField(fields: readonly Field[], chosen: string): Field | undefined {
  const byName = ['name', 'title', 'label'].map((wanted) =>
    fields.find(({ name, type }) => name === wanted && type === 'text'),
  );
  return (
    fields.find(({ name }) => name === chosen) ??
    byName.find(Boolean) ??
    fields.find(({ type, longest, rare }) => type === 'text' && longest < 40 && !rare)
  );
}

/** Fields as the options of a choice. */
export const optionsOf = (fields: readonly Field[]) =>
  fields.map((field) => ({ value: field.name, label: labelOf(field) }));
