<script setup lang="ts">
import type { QueryForm } from '@uproar/core';
import { Button, Modal } from 'ant-design-vue';
import { computed, onBeforeUnmount, ref, watch } from 'vue';
import { useRouter } from 'vue-router';
import { countOf } from '../actions/name-documents';
import { writeMany } from '../actions/write-many';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import type { Frame } from '../table/pausable-view';
import PastBar from './PastBar.vue';
import { describePlan, MOST_PUT_BACK, planPutBack } from './put-back';
import { usePast } from './use-past';

/** A result as it was at an earlier moment, and the bar that moves it. Its slot draws the result. */
defineSlots<{ default(slot: { frame: Frame }): unknown }>();
const props = defineProps<{
  form: QueryForm;
  /** The seq to begin at; undefined: now. */
  startAt: number | undefined;
  picked?: ReadonlySet<string>;
  totals?: boolean;
}>();
const emit = defineEmits<{
  /** The seq of the moment that is shown. */
  moment: [seq: number];
  close: [];
  open: [id: string];
}>();
const router = useRouter();
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

/** Opens the page that compares the result of this moment with the live one. */
function compare(): void {
  const parts = Object.entries(props.form).map(([name, value]) => [name, String(value)] as [string, string]);
  const live = new URLSearchParams(parts).toString();
  void router.push({ name: 'compare', query: { kind: 'results', a: `${live}&at=${seq.value}`, b: live } });
}

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
    const planned = await planPutBack(store, collection, some, seq.value);
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
    <slot v-if="frame" :frame="frame" />
    <div v-else class="nothing" />
    <PastBar :past="past" @close="emit('close')" @open="(id) => emit('open', id)">
      <Button size="small" @click="compare">Compare with now</Button>
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
@media (max-width: 720px) {
  .past-result:has(> :deep(:is(.map, .chart, .cards))) {
    flex: none;
  }
}
</style>
