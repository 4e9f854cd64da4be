import { useWatch } from '@uproar/vue';
import { computed, shallowRef, type ComputedRef } from 'vue';
import { describeFailure } from '../../shared/failure';
import { useNotices, useStore } from '../../shared/injection';
import { formatCell, valueAt } from '../../table/fields';
import { findDeepFields, labelField } from '../field-choices';
import type { BaseShape } from './document-map';
import { isPlace, placeOf, readGeoJson, type Geometry } from './read-places';

/** Documents of a collection that are drawn as a base layer. */
const MOST_DOCUMENTS = 2000;
const MAX_FILE_BYTES = 8_000_000;
/** What the address holds where a file is the base layer. No collection can have this name. */
const FILE = 'geojson:file';

/** The file that was opened as a base layer. It is kept until the page is loaded again. */
const opened = shallowRef<{ name: string; geometries: Geometry[] }>();

/** The base layer of a map: a collection of the store, or a GeoJSON file. */
export function useBaseLayer(
  base: () => string,
  collections: () => readonly string[],
  present: (base: string) => void,
): {
  shapes: ComputedRef<BaseShape[]>;
  options: ComputedRef<{ value: string; label: string }[]>;
  choose(base: string | undefined): void;
} {
  const store = useStore();
  const notices = useNotices();
  const view = useWatch(() =>
    base() === '' || base() === FILE ? undefined : store.collection(base()).watch({ limit: MOST_DOCUMENTS }),
  );
  const shapes = computed((): BaseShape[] => {
    if (base() === FILE) return (opened.value?.geometries ?? []).map((geometry) => ({ geometry, label: '' }));
    const documents = view.value?.documents ?? [];
    const fields = findDeepFields(documents);
    const places = fields.find(isPlace);
    const named = labelField(fields, '');
    if (!places) return [];
    return documents.flatMap((document) => {
      const at = placeOf(document, places.path);
      if (!at) return [];
      const label = named ? formatCell(valueAt(document.data, named.path)) : '';
      return [{ geometry: 'shape' in at ? at.shape : { type: 'Point', coordinates: at.point }, label }];
    });
  });

  const open = async (file: File | undefined) => {
    if (!file) return;
    try {
      if (file.size > MAX_FILE_BYTES) throw new Error('A base layer may have at most 8 MB.');
      opened.value = { name: file.name, geometries: readGeoJson(await file.text()) };
      present(FILE);
    } catch (error) {
      notices.error({ message: `Not opened: ${file.name}`, description: describeFailure(error) });
    }
  };

  return {
    shapes,
    options: computed(() => [
      ...collections().map((name) => ({ value: name, label: name })),
      { value: FILE, label: opened.value ? opened.value.name : 'GeoJSON file …' },
    ]),
    choose: (chosen) => {
      if (chosen !== FILE || opened.value) return present(chosen ?? '');
      const input = document.createElement('input');
      input.type = 'file';
      input.accept = '.json,.geojson';
      input.addEventListener('change', () => void open(input.files?.[0]));
      input.click();
    },
  };
}
