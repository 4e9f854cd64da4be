import type { InjectionKey, Ref } from 'vue';

/** The collection that a table shows. */
export const CollectionKey: InjectionKey<Readonly<Ref<string>>> = Symbol('collection');
