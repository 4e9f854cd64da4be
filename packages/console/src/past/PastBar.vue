<script setup lang="ts">
import { fieldChanges } from '@uproar/core';
import { Button, Input, Spin } from 'ant-design-vue';
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import { formatCell } from '../table/fields';
import { readMoment } from './read-moment';
import { SPEEDS, type Past } from './use-past';

/** Moves a result through its past: by hand, change by change, or played. */
const props = defineProps<{ past: Past }>();
const emit = defineEmits<{ close: []; open: [id: string] }>();

const { changes, position, change, seq, more, loading, failure, playing, speed } = props.past;
const time = computed(() => change.value?.time ?? changes.value[0]?.time);
const clock = computed(() =>
  time.value === undefined ? '–' : new Date(time.value).toLocaleTimeString(undefined, { hourCycle: 'h23' }),
);
const day = computed(() => {
  if (time.value === undefined) return '';
  const then = new Date(time.value);
  return then.toDateString() === new Date().toDateString() ? '' : then.toLocaleDateString();
});

const MOST_FIELDS = 3;
/** What the newest change did, in a few words. */
const what = computed(() => {
  const { before, after } = change.value ?? {};
  if (!change.value) return '';
  if (!before) return 'created';
  if (!after) return 'deleted';
  const found = fieldChanges(before.data, after.data);
  const named = found
    .slice(0, MOST_FIELDS)
    .map(
      (one) =>
        `${one.name} ${formatCell(one.before).slice(0, 24) || '–'} → ${formatCell(one.after).slice(0, 24) || '–'}`,
    );
  return named.join(', ') + (found.length > MOST_FIELDS ? ` and ${found.length - MOST_FIELDS} more` : '');
});

// Notices stand above the bar.
const element = useTemplateRef<HTMLElement>('element');
const { style } = document.documentElement;
const observer = new ResizeObserver(() => style.setProperty('--bar-height', `${element.value!.offsetHeight}px`));
onMounted(() => observer.observe(element.value!));
onBeforeUnmount(() => {
  observer.disconnect();
  style.removeProperty('--bar-height');
});

const typed = ref('');
const fault = ref('');
function go(): void {
  const target = readMoment(typed.value, new Date());
  fault.value = target ? '' : 'A seq such as 1204, or a time such as 14:30 or 2031-06-12 14:30';
  if (target) void props.past.goTo(target);
}

function toggle(): void {
  if (playing.value) props.past.stop();
  else props.past.play();
}

function onKey(event: KeyboardEvent): void {
  if (event.key !== ' ') return;
  event.preventDefault();
  toggle();
}
const speeds = SPEEDS.map((value) => ({ value, label: `${value}×` }));
</script>

<template>
  <section ref="element" class="past" aria-label="Rewind">
    <div class="line">
      <Button size="small" aria-label="Previous change" :disabled="position === 0" @click="past.moveTo(position - 1)"
        >◂</Button
      >
      <Button size="small" class="play" :disabled="changes.length === 0" @click="toggle">{{
        playing ? 'Stop' : 'Play'
      }}</Button>
      <Button
        size="small"
        aria-label="Next change"
        :disabled="position === changes.length"
        @click="past.moveTo(position + 1)"
        >▸</Button
      >
      <ChoiceBox small :value="speed" aria-label="Speed" :options="speeds" @change="(value) => (speed = value)" />
      <input
        type="range"
        class="slider"
        min="0"
        :max="changes.length"
        :value="position"
        aria-label="Moment"
        :aria-valuetext="`${clock} ${day}, seq ${seq}`"
        @input="past.moveTo(Number(($event.target as HTMLInputElement).value))"
        @keydown="onKey"
      />
      <output class="moment"
        ><b>{{ clock }}</b> {{ day }} <span class="muted">seq {{ seq.toLocaleString() }}</span></output
      >
      <form class="go" @submit.prevent="go">
        <Input
          v-model:value="typed"
          size="small"
          :status="fault ? 'error' : ''"
          :title="fault || undefined"
          aria-label="Go to a seq or time"
          placeholder="seq or time"
        />
        <Button size="small" html-type="submit" :disabled="typed.trim() === ''">Go</Button>
      </form>
      <Button size="small" type="primary" @click="emit('close')">Back to live</Button>
    </div>
    <div class="line small">
      <span v-if="fault" class="bad" role="alert">{{ fault }}</span>
      <span v-else-if="failure" class="bad" role="alert">{{ failure }}</span>
      <span v-else-if="loading" class="muted"><Spin size="small" /> Reading the journal…</span>
      <span v-else-if="changes.length === 0" class="muted">The journal has no changes of this result.</span>
      <span v-else-if="change" class="what">
        <button type="button" class="as-link mono" @click="emit('open', change.id)">{{ change.id }}</button> {{ what }}
        <span class="muted">by {{ change.identity }}</span>
      </span>
      <span v-else class="muted">Before the first loaded change.</span>
      <span class="count muted">change {{ position.toLocaleString() }} of {{ changes.length.toLocaleString() }}</span>
      <Button v-if="more" size="small" type="text" :disabled="loading" @click="past.loadEarlier()">Load earlier</Button>
      <slot />
    </div>
  </section>
</template>

<style scoped>
.past {
  padding: 8px 16px;
  border-top: 2px solid var(--accent);
  background: var(--paper-2);
}
.line {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 8px;
  align-items: center;
}
.small {
  min-height: 26px;
  margin-top: 4px;
  font-size: 12px;
}
.play {
  width: 52px;
}
.slider {
  flex: 1 1 160px;
  min-width: 0;
  accent-color: var(--accent);
}
.moment {
  min-width: 168px;
  font-variant-numeric: tabular-nums;
}
.go {
  display: flex;
  gap: 4px;
}
.go :deep(input) {
  width: 110px;
}
.what {
  min-width: 0;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.count {
  margin-left: auto;
  font-variant-numeric: tabular-nums;
}
.bad {
  color: var(--bad);
}
@media (max-width: 720px) {
  .past {
    position: sticky;
    bottom: 0;
    z-index: 3;
  }
}
</style>
