import type { Document } from '@uproar/client';
import { onScopeDispose, shallowRef, watch, type Ref, type ShallowRef } from 'vue';
import { isDark } from '../shared/theme';
import type { Field } from '../table/fields';
import { scaleOf, type ColourScale } from './palette';

/** For a new scale all documents are looked at, so that is not done with every frame. */
const LOOK_AGAIN_MS = 1000;

/** The colours of documents by a field. Values keep their colours while documents come and go. */
export function useColourScale(
  field: Readonly<Ref<Field | undefined>>,
  documents: () => readonly Document[],
): Readonly<ShallowRef<ColourScale>> {
  let known: { name: string; values: readonly string[] } = { name: '', values: [] };
  const make = () => {
    const name = field.value?.name ?? '';
    const made = scaleOf(field.value, documents(), isDark.value, known.name === name ? known.values : []);
    known = { name, values: made.values };
    return made;
  };
  const scale = shallowRef<ColourScale>(make());
  const look = ({ legend, colours }: ColourScale) => JSON.stringify([legend, colours]);
  let timer: ReturnType<typeof setTimeout> | undefined;
  watch([() => field.value?.name, isDark], () => (scale.value = make()));
  watch(documents, () => {
    timer ??= setTimeout(() => {
      timer = undefined;
      const made = make();
      if (look(made) !== look(scale.value)) scale.value = made;
    }, LOOK_AGAIN_MS);
  });
  onScopeDispose(() => clearTimeout(timer));
  return scale;
}
