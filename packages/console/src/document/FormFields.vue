<script setup lang="ts">
import { formatPointer, isObject, JsonTextError, parseJson } from '@uproar/core';
import type { JsonObject, JsonValue } from '@uproar/client';
import { Button, Input, Switch } from 'ant-design-vue';
import { computed, inject } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';
import TextBox from '../components/TextBox.vue';
import { FormInputsKey } from './form-inputs';

/** The fields of an object, each with an input that suits its type. */
const props = defineProps<{ data: JsonObject; path: readonly string[] }>();
const emit = defineEmits<{ change: [data: JsonObject] }>();
const inputs = inject(FormInputsKey)!;

type Kind = 'text' | 'number' | 'yes/no' | 'nothing' | 'object' | 'list';
const KINDS: Kind[] = ['text', 'number', 'yes/no', 'nothing', 'object', 'list'];
const EMPTY: Record<Kind, JsonValue> = { text: '', number: 0, 'yes/no': false, nothing: null, object: {}, list: [] };

const labelOf = (name: string) => [...props.path, name].join('.');
const pointerOf = (name: string) => formatPointer([...props.path, name]);
const pointer = computed(() => formatPointer(props.path));
const entries = computed(() =>
  Object.entries(props.data).map(([name, value]) => ({
    name,
    value,
    kind: kindOf(value),
    typed: inputs.typed[pointerOf(name)],
  })),
);

function kindOf(value: JsonValue): Kind {
  if (value === null) return 'nothing';
  if (Array.isArray(value)) return 'list';
  if (typeof value === 'object') return 'object';
  return typeof value === 'number' ? 'number' : typeof value === 'boolean' ? 'yes/no' : 'text';
}

function set(name: string, value: JsonValue | undefined): void {
  const entriesNow = Object.entries(props.data);
  const next =
    value === undefined
      ? entriesNow.filter(([key]) => key !== name)
      : entriesNow.map(([key, old]) => [key, key === name ? value : old] as [string, JsonValue]);
  // A plain assignment of "__proto__" would not make a member.
  emit('change', Object.fromEntries(next) as JsonObject);
}

/** Changes the type of a field. The value it had is there again when its former type is chosen again. */
function setKind(name: string, kind: Kind): void {
  const value = props.data[name]!;
  const former = (inputs.former[pointerOf(name)] ??= {});
  former[kindOf(value)] = value;
  delete inputs.typed[pointerOf(name)];
  if (former[kind] !== undefined) return set(name, former[kind]);
  const text = typeof value === 'object' ? JSON.stringify(value) : String(value);
  if (kind === 'text') set(name, value === null ? '' : text);
  else if (kind === 'number') set(name, Number.isFinite(Number(text)) ? Number(text) : 0);
  else if (kind === 'list') set(name, value === null ? [] : [value]);
  else set(name, EMPTY[kind]);
}

/** Accepts the text as typed; it becomes part of the data once it is a value of the field's type. */
function setTyped(name: string, kind: 'number' | 'list', text: string): void {
  let fault = kind === 'number' ? 'A number was expected.' : 'A list in JSON was expected: ["a", 1].';
  try {
    const value = parseJson(text);
    if (kind === 'number' ? typeof value === 'number' : Array.isArray(value)) {
      fault = '';
      if (JSON.stringify(value) !== JSON.stringify(props.data[name])) set(name, value);
    }
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    if (kind === 'list') fault = error.message;
  }
  inputs.typed[pointerOf(name)] = { text, fault, label: labelOf(name) };
}

/** The text of a value is normalised when the field is not being edited any more. */
function leaveTyped(name: string): void {
  if (inputs.typed[pointerOf(name)]?.fault === '') delete inputs.typed[pointerOf(name)];
}

function remove(name: string): void {
  const gone = pointerOf(name);
  for (const key of Object.keys(inputs.typed)) if (key === gone || key.startsWith(`${gone}/`)) delete inputs.typed[key];
  set(name, undefined);
}

const fresh = computed({
  get: () => inputs.added[pointer.value] ?? '',
  set: (name: string) => (inputs.added[pointer.value] = name),
});
const canAdd = computed(() => fresh.value !== '' && !Object.hasOwn(props.data, fresh.value));
function add(): void {
  if (!canAdd.value) return;
  emit('change', Object.fromEntries([...Object.entries(props.data), [fresh.value, '']]) as JsonObject);
  fresh.value = '';
}
</script>

<template>
  <div class="fields">
    <div v-for="{ name, value, kind, typed } in entries" :key="name" class="field" :class="kind">
      <label :for="`form-${labelOf(name)}`" :title="labelOf(name)">{{ name }}</label>
      <ChoiceBox
        class="kind"
        small
        :value="kind"
        :aria-label="`Type of ${labelOf(name)}`"
        :options="KINDS.map((option) => ({ value: option, label: option }))"
        @change="(next) => setKind(name, next as Kind)"
      />
      <div class="value">
        <!-- One and the same element for every length: the focus stays in it. -->
        <TextBox
          v-if="kind === 'text'"
          :id="`form-${labelOf(name)}`"
          :model-value="String(value)"
          @update:model-value="(text) => set(name, text)"
        />
        <template v-else-if="kind === 'number' || kind === 'list'">
          <Input
            :id="`form-${labelOf(name)}`"
            size="small"
            class="mono"
            autocomplete="off"
            :inputmode="kind === 'number' ? 'decimal' : undefined"
            :status="typed?.fault ? 'error' : ''"
            :value="typed?.text ?? JSON.stringify(value)"
            @update:value="(text: string) => setTyped(name, kind as 'number' | 'list', text)"
            @blur="leaveTyped(name)"
          />
          <p v-if="typed?.fault" class="fault" role="status">{{ typed.fault }}</p>
        </template>
        <Switch
          v-else-if="kind === 'yes/no'"
          :id="`form-${labelOf(name)}`"
          size="small"
          :checked="value === true"
          @change="(on) => set(name, on === true)"
        />
        <span v-else-if="kind === 'nothing'" class="muted mono">null</span>
        <FormFields
          v-else-if="isObject(value)"
          :data="value"
          :path="[...path, name]"
          @change="(next: JsonObject) => set(name, next)"
        />
      </div>
      <Button size="small" type="text" :aria-label="`Remove ${labelOf(name)}`" @click="remove(name)">✕</Button>
    </div>
    <form class="add" @submit.prevent="add">
      <Input
        v-model:value="fresh"
        size="small"
        placeholder="new field"
        :aria-label="`Name of a new field${path.length > 0 ? ` of ${path.join('.')}` : ''}`"
      />
      <Button size="small" html-type="submit" :disabled="!canAdd">Add</Button>
    </form>
  </div>
</template>

<style scoped>
.field {
  display: grid;
  grid-template-columns: minmax(70px, 130px) 98px minmax(0, 1fr) 28px;
  gap: 4px 8px;
  align-items: start;
  padding: 3px 0;
}
.object.field > .value {
  grid-column: 1 / -1;
  grid-row: 2;
  padding-left: 14px;
  border-left: 2px solid var(--line);
}
.object.field > button {
  grid-column: 4;
}
label {
  overflow: hidden;
  padding-top: 3px;
  font-weight: 600;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.kind {
  width: 100%;
}
.fault {
  margin: 2px 0 0;
  color: var(--bad);
  font-size: 12px;
}
.add {
  display: flex;
  gap: 8px;
  max-width: 300px;
  padding: 6px 0;
}
</style>
