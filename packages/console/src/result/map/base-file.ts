import { shallowRef } from 'vue';
import type { Geometry } from './read-places';

/** The file that was opened as a base layer. It is kept until the page is loaded again. */
export const openedBase = shallowRef<{ name: string; geometries: Geometry[] }>();
