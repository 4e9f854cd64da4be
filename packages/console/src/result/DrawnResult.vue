<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue';
import { isRelated } from './related-columns';
import type { Frame } from '../table/pausable-view';
import { useFieldChoices } from './field-choices';
import type { Box } from './map/box';
import type { Presentation } from './presentation';

/** A result as map, chart, bars or cards. Each is loaded when it is first shown. */
const props = defineProps<{
  collection: string;
  where: string;
  frame: Frame;
  presentation: Presentation;
  /** Whether the result has totals instead of documents. */
  totals: boolean;
  picked: ReadonlySet<string>;
  selected: string;
  /** Whether documents can be changed from here. */
  editable: boolean;
  /** The collections of the store. */
  collections: readonly string[];
  /** Without controls, as one of several results on a page. */
  bare?: boolean;
}>();
const emit = defineEmits<{
  present: [change: Partial<Presentation>];
  pick: [ids: string[]];
  open: [id: string];
  narrow: [field: string, box: Box];
}>();
const MapView = defineAsyncComponent(() => import('./map/MapView.vue'));
const ChartView = defineAsyncComponent(() => import('./chart/ChartView.vue'));
const BarsView = defineAsyncComponent(() => import('./chart/BarsView.vue'));
const CardsView = defineAsyncComponent(() => import('./cards/CardsView.vue'));

const found = useFieldChoices(() => props.frame);
const fields = computed(() => found.value.filter(({ path }) => !isRelated(path)));
/** Totals have no earlier values in the journal; related documents are drawn as of now. */
const journal = computed(() => (props.totals ? undefined : { collection: props.collection, where: props.where }));
const common = computed(() => ({
  frame: props.frame,
  fields: fields.value,
  presentation: props.presentation,
  bare: props.bare,
}));
</script>

<template>
  <BarsView v-if="totals" v-bind="common" @present="(change) => emit('present', change)" />
  <MapView
    v-else-if="presentation.show === 'map'"
    v-bind="common"
    :picked="picked"
    :selected="selected"
    :collections="collections"
    @present="(change) => emit('present', change)"
    @pick="(ids) => emit('pick', ids)"
    @open="(id) => emit('open', id)"
    @narrow="(field, box) => emit('narrow', field, box)"
  />
  <ChartView
    v-else-if="presentation.show === 'chart'"
    v-bind="common"
    :journal="journal"
    :picked="picked"
    @present="(change) => emit('present', change)"
  />
  <CardsView
    v-else-if="presentation.show === 'cards'"
    v-bind="common"
    :collection="collection"
    :selected="selected"
    :editable="editable"
    @present="(change) => emit('present', change)"
    @open="(id) => emit('open', id)"
  />
</template>
