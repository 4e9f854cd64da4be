<script setup lang="ts">
import { computed, ref } from 'vue';
import CodeText from '../components/CodeText.vue';
import { partsOf, typeOf, type Schema } from './descriptions';

const props = defineProps<{ schema: Schema; known: Record<string, Schema> }>();
const open = ref(new Set<string>());

const parts = computed(() =>
  partsOf(props.schema, props.known).map(({ name, schema }, place) => ({
    name,
    members: Object.entries(schema.properties ?? {}).map(([member, inner]) => ({
      key: `${place}/${member}`,
      member,
      inner,
      says: describe(inner),
      required: schema.required?.includes(member) ?? false,
      inside: partsOf(inner, props.known).length > 0,
    })),
  })),
);

/** The description at the place of use, or else at the declaration. */
function describe(inner: Schema): string | undefined {
  return inner.description ?? (inner.$ref ? props.known[inner.$ref.split('/').at(-1)!]?.description : undefined);
}

function toggle(key: string): void {
  const next = new Set(open.value);
  if (!next.delete(key)) next.add(key);
  open.value = next;
}
</script>

<template>
  <p v-if="parts.length === 0" class="mono">{{ typeOf(schema) }}</p>
  <template v-for="({ name, members }, place) in parts" :key="place">
    <p v-if="parts.length > 1" class="branch muted">{{ name === 'or' ? (place === 0 ? 'either' : 'or') : name }}</p>
    <dl>
      <template v-for="{ key, member, inner, says, required, inside } in members" :key="key">
        <dt class="mono">
          <button v-if="inside" type="button" :aria-expanded="open.has(key)" @click="toggle(key)">
            <span aria-hidden="true">{{ open.has(key) ? '▾' : '▸' }}</span>{{ member }}
          </button>
          <span v-else class="leaf">{{ member }}</span>
          <small v-if="!required" class="muted">optional</small>
        </dt>
        <dd>
          <span class="mono type">{{ typeOf(inner) }}</span>
          <span v-if="says" class="says"><CodeText :text="says" /></span>
          <div v-if="open.has(key)" class="inside"><SchemaTree :schema="inner" :known="known" /></div>
        </dd>
      </template>
    </dl>
  </template>
</template>

<style scoped>
p {
  margin: 4px 0;
}
.branch {
  margin-top: 8px;
}
dl {
  display: grid;
  grid-template-columns: minmax(110px, max-content) minmax(0, 1fr);
  gap: 2px 16px;
  margin: 4px 0;
}
dt {
  white-space: nowrap;
}
dt small {
  margin-left: 6px;
  font-family: system-ui, sans-serif;
}
dd {
  margin: 0;
  color: var(--ink-2);
  overflow-wrap: anywhere;
}
.leaf {
  padding-left: 14px;
}
.type {
  color: var(--number);
}
.says {
  margin-left: 8px;
}
button {
  padding: 0;
  border: 0;
  background: none;
  color: var(--accent);
  font: inherit;
  cursor: pointer;
}
button span {
  display: inline-block;
  width: 14px;
}
.inside {
  margin: 2px 0 6px;
  padding-left: 10px;
  border-left: 2px solid var(--line);
}
@media (max-width: 700px) {
  dl {
    grid-template-columns: minmax(0, 1fr);
  }
  dd {
    padding-left: 14px;
  }
}
</style>
