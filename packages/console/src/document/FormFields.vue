<script setup lang="ts">
import { isObject, JsonTextError, parseJson } from '@uproar/core';
import type { JsonObject, JsonValue } from '@uproar/client';
import { Button, Input, Switch, Textarea } from 'ant-design-vue';
import { computed, ref } from 'vue';
import ChoiceBox from '../components/ChoiceBox.vue';

const props = defineProps<{ data: JsonObject; path: string }>();
const emit = defineEmits<{ change: [data: JsonObject] }>();

type Kind = 'text' | 'number' | 'yes/no' | 'nothing' | 'object' | 'list';
const KINDS: Kind[] = ['text', 'number', 'yes/no', 'nothing', 'object', 'list'];
const EMPTY: Record<Kind, JsonValue> = { text: '', number: 0, 'yes/no': false, nothing: null, object: {}, list: [] };
const LONG = 60;

/** What was typed and is no value yet, by field. */
const typed = ref<Record<string, { text: string; fault: string }>>({});
const fresh = ref('');
const entries = computed(() =>
  Object.entries(props.data).map(([name, value]) => ({ name, value, kind: kindOf(value) })),
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

function setKind(name: string, kind: Kind): void {
  const value = props.data[name]!;
  const text = typeof value === 'object' ? JSON.stringify(value) : String(value);
  delete typed.value[name];
  if (kind === 'text') set(name, value === null ? '' : text);
  else if (kind === 'number') set(name, Number.isFinite(Number(text)) ? Number(text) : 0);
  else if (kind === 'list') set(name, value === null ? [] : [value]);
  else set(name, EMPTY[kind]);
}

function setTyped(name: string, kind: 'number' | 'list', text: string): void {
  let fault = kind === 'number' ? 'A number was expected.' : 'A list in JSON was expected: ["a", 1].';
  try {
    const value = parseJson(text);
    if (kind === 'number' ? typeof value === 'number' : Array.isArray(value)) {
      delete typed.value[name];
      if (JSON.stringify(value) !== JSON.stringify(props.data[name])) set(name, value);
      return;
    }
  } catch (error) {
    if (!(error instanceof JsonTextError)) throw error;
    fault = kind === 'number' ? fault : error.message;
  }
  typed.value[name] = { text, fault };
}

const canAdd = computed(() => fresh.value !== '' && !Object.hasOwn(props.data, fresh.value));
function add(): void {
  if (!canAdd.value) return;
  emit('change', Object.fromEntries([...Object.entries(props.data), [fresh.value, '']]) as JsonObject);
  fresh.value = '';
}
const labelOf = (name: string) => (props.path === '' ? name : `${props.path}.${name}`);
</script>

<template>
  <div class="fields">
    <div v-for="{ name, value, kind } in entries" :key="name" class="field" :class="kind">
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
        <template v-if="kind === 'text'">
          <Textarea
            v-if="String(value).length > LONG || String(value).includes('\n')"
            :id="`form-${labelOf(name)}`"
            :rows="3"
            :value="String(value)"
            @update:value="(text: string) => set(name, text)"
          />
          <Input
            v-else
            :id="`form-${labelOf(name)}`"
            size="small"
            :value="String(value)"
            @update:value="(text: string) => set(name, text)"
          />
        </template>
        <template v-else-if="kind === 'number' || kind === 'list'">
          <Input
            :id="`form-${labelOf(name)}`"
            size="small"
            class="mono"
            :inputmode="kind === 'number' ? 'decimal' : undefined"
            :status="typed[name] ? 'error' : ''"
            :value="typed[name]?.text ?? JSON.stringify(value)"
            @update:value="(text: string) => setTyped(name, kind as 'number' | 'list', text)"
          />
          <p v-if="typed[name]" class="fault" role="status">{{ typed[name].fault }}</p>
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
          :path="labelOf(name)"
          @change="(next: JsonObject) => set(name, next)"
        />
      </div>
      <Button size="small" type="text" :aria-label="`Remove ${labelOf(name)}`" @click="set(name, undefined)">✕</Button>
    </div>
    <form class="add" @submit.prevent="add">
      <Input
        v-model:value="fresh"
        size="small"
        placeholder="another field"
        :aria-label="`Name of another field${path ? ` of ${path}` : ''}`"
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
