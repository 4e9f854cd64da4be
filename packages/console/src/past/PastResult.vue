<script setup lang="ts">
import type { QueryForm } from '@uproar/core';
import { Button, Modal } from 'ant-design-vue';
import { computed, onBeforeUnmount, ref, watch } from 'vue';
import { countOf, writeMany } from '../actions/write-many';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import type { Box } from '../result/map/box';
import type { Presentation } from '../result/presentation';
import ResultView from '../result/ResultView.vue';
import type { Column } from '../table/layout';
import PastBar from './PastBar.vue';
import { describePlan, MOST_PUT_BACK, planPutBack } from './put-back';
import { usePast } from './use-past';

/** A result as it was at an earlier moment. */
const props = defineProps<{
  form: QueryForm;
  /** The seq to begin at; undefined: now. */
  startAt: number | undefined;
  where: string;
  order: string;
  presentation: Presentation;
  selected: string;
  picked?: ReadonlySet<string>;
  totals?: boolean;
  collections: readonly string[];
}>();
const emit = defineEmits<{
  /** The seq of the moment that is shown. */
  moment: [seq: number];
  close: [];
  open: [id: string];
  pick: [ids: string[], on: boolean];
  pickOnly: [ids: string[]];
  sort: [column: Column, add: boolean];
  present: [change: Partial<Presentation>];
  narrow: [field: string, box: Box];
}>();
const store = useStore();
const notices = useNotices();
const [modal, ModalHolder] = Modal.useModal();
const past = usePast(store, () => props.form, props.startAt);
const { frame, seq, playing, change } = past;

// The address follows when the moment has stood still for a while.
let timer: ReturnType<typeof setTimeout> | undefined;
watch([seq, playing], () => {
  clearTimeout(timer);
  if (!playing.value && frame.value) timer = setTimeout(() => emit('moment', seq.value), 400);
});
onBeforeUnmount(() => clearTimeout(timer));

/** The page that compares the result of this moment with the live one. */
const compared = computed(() => {
  const parts = Object.entries(props.form).map(([name, value]) => [name, String(value)]);
  const query = new URLSearchParams(Object.fromEntries(parts) as Record<string, string>).toString();
  return { name: 'compare', query: { kind: 'results', a: `${query}&at=${seq.value}`, b: query } };
});

/** The selected documents, otherwise that of the newest change. */
const ids = computed(() => {
  if (props.picked && props.picked.size > 0) return [...props.picked];
  return change.value ? [change.value.id] : [];
});
const planning = ref(false);

async function putBack(): Promise<void> {
  past.stop();
  planning.value = true;
  const collection = props.form.from;
  try {
    const some = ids.value.slice(0, MOST_PUT_BACK);
    const planned = await planPutBack(store, collection, past, some);
    if (planned.length === 0) {
      notices.info({
        message: `Nothing to put back`,
        description: 'The documents are now as they were then.',
        duration: 4,
      });
      return;
    }
    modal.confirm({
      title: `Put ${countOf(planned)} back to seq ${seq.value.toLocaleString()}?`,
      content: `${describePlan(planned)}. This is a new change, which you can undo.`,
      okText: 'Put back',
      onOk: () => {
        void writeMany(store, notices, collection, planned, { done: 'Put back', failed: 'Not put back' });
      },
    });
  } catch (error) {
    notices.error({ message: 'Not put back', description: describeFailure(error) });
  } finally {
    planning.value = false;
  }
}
</script>

<template>
  <div class="past-result">
    <ModalHolder />
    <ResultView
      v-if="frame"
      :collection="form.from"
      :where="where"
      :frame="frame"
      :order="order"
      :presentation="presentation"
      :selected="selected"
      :picked="picked"
      :totals="totals"
      :editable="false"
      :collections="collections"
      @open="(id) => emit('open', id)"
      @pick="(some, on) => emit('pick', some, on)"
      @pick-only="(some) => emit('pickOnly', some)"
      @sort="(column, add) => emit('sort', column, add)"
      @present="(shown) => emit('present', shown)"
      @narrow="(field, box) => emit('narrow', field, box)"
    />
    <div v-else class="nothing" />
    <PastBar :past="past" @close="emit('close')" @open="(id) => emit('open', id)">
      <RouterLink :to="compared"><Button size="small" tabindex="-1">Compare with now</Button></RouterLink>
      <Button
        v-if="!totals"
        size="small"
        :disabled="ids.length === 0"
        :loading="planning"
        title="Write the selected documents as they were at this moment"
        @click="putBack"
        >Put back
        {{ ids.length === 0 ? '…' : ids.length === 1 ? ids[0] : `${ids.length.toLocaleString()} selected` }}</Button
      >
    </PastBar>
  </div>
</template>

<style scoped>
.past-result {
  display: flex;
  flex: 1;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
}
.nothing {
  flex: 1;
}
</style>
