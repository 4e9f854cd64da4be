<script setup lang="ts">
import { mergeEdits, type EditConflict } from '@uproar/core';
import type { Document, JsonObject, JsonValue } from '@uproar/client';
import { Alert, Button } from 'ant-design-vue';
import { computed, ref } from 'vue';

const props = defineProps<{ base: Document; mine: JsonObject; theirs: Document }>();
const emit = defineEmits<{ settle: [data: JsonObject] }>();

const chosen = ref<Record<string, 'mine' | 'theirs'>>({});
const merged = computed(() => mergeEdits(props.base.data, props.mine, props.theirs.data, choose));
function choose({ pointer }: EditConflict): 'mine' | 'theirs' {
  return chosen.value[pointer] ?? 'mine';
}
const show = (value: JsonValue | undefined) => (value === undefined ? 'missing' : JSON.stringify(value));
</script>

<template>
  <Alert
    type="warning"
    show-icon
    :message="`Version ${theirs.version} was saved while you edited version ${base.version}.`"
  >
    <template #description>
      <template v-if="merged.conflicts.length > 0">
        <p>Both of you changed the same fields. Choose a value for each. All other changes are kept.</p>
        <table>
          <thead>
            <tr>
              <th scope="col">field</th>
              <th scope="col">was</th>
              <th scope="col">theirs</th>
              <th scope="col">yours</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="conflict in merged.conflicts" :key="conflict.pointer">
              <th scope="row">{{ conflict.name || 'all' }}</th>
              <td>{{ show(conflict.before) }}</td>
              <td v-for="side in ['theirs', 'mine'] as const" :key="side" :class="{ kept: choose(conflict) === side }">
                <label
                  ><input
                    type="radio"
                    :name="`keep${conflict.pointer}`"
                    :checked="choose(conflict) === side"
                    @change="chosen[conflict.pointer] = side"
                  />
                  {{ show(conflict[side]) }}</label
                >
              </td>
            </tr>
          </tbody>
        </table>
        <Button size="small" type="primary" @click="emit('settle', merged.data)">Use these values</Button>
        <Button size="small" type="link" @click="emit('settle', theirs.data)">Take theirs</Button>
      </template>
      <template v-else>
        You changed different fields. Saving keeps both changes.
        <Button size="small" type="link" @click="emit('settle', merged.data)">Show both</Button>
        <Button size="small" type="link" @click="emit('settle', theirs.data)">Take theirs</Button>
      </template>
    </template>
  </Alert>
</template>

<style scoped>
p {
  margin: 0 0 6px;
}
table {
  width: 100%;
  margin-bottom: 8px;
  border-collapse: collapse;
  font-family: var(--mono);
  font-size: 12px;
}
th,
td {
  padding: 3px 8px;
  border: 1px solid var(--line);
  text-align: left;
  vertical-align: top;
  overflow-wrap: anywhere;
}
.kept {
  background: var(--live-soft);
}
</style>
