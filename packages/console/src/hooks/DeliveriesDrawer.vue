<script setup lang="ts">
import type { Delivery, DeliveryDetails, DeliveryResult, HookInfo } from '@uproar/protocol';
import { Alert, Button, Checkbox, Drawer } from 'ant-design-vue';
import { ref, shallowRef } from 'vue';
import { formatDuration } from '@uproar/core';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';
import { formatMoment } from '../shared/use-call';
import { describeState } from './describe-hook';

/** The latest deliveries of a hook, and what was sent and answered. */
const props = defineProps<{ hook: HookInfo }>();
const emit = defineEmits<{ close: [] }>();

const EVERY_MS = 2000;
const store = useStore();
const notices = useNotices();
const onlyFailed = ref(false);
const details = shallowRef<DeliveryDetails>();
const path = `/v1/hooks/${props.hook.id}/deliveries`;
const {
  value: deliveries,
  failure,
  again,
} = usePolled<Delivery[]>(
  EVERY_MS,
  async () =>
    (await store.fetch<{ deliveries: Delivery[] }>(`${path}?limit=100&failed=${onlyFailed.value}`)).deliveries,
  () => onlyFailed.value,
);

async function toggle({ number }: Delivery): Promise<void> {
  if (details.value?.number === number) details.value = undefined;
  else await act('Not read', async () => (details.value = await store.fetch<DeliveryDetails>(`${path}/${number}`)));
}

async function send({ number }: Delivery): Promise<void> {
  await act('Not sent', async () => {
    const { delivered, status, error } = await store.post<DeliveryResult>(`${path}/${number}/send`, {});
    const message = delivered ? 'Sent again, and taken' : 'Sent again, and not taken';
    notices[delivered ? 'success' : 'error']({ message, description: String(status ?? error) });
  });
  again();
}

async function act(what: string, work: () => Promise<unknown>): Promise<void> {
  try {
    await work();
  } catch (error) {
    notices.error({ message: what, description: describeFailure(error) });
  }
}

const changeOf = ({ type }: Delivery) => type.split('.').at(-1);

/** The body for people, or as it is where it is not JSON. */
function pretty(body: string): string {
  try {
    return JSON.stringify(JSON.parse(body), null, 2);
  } catch {
    return body;
  }
}
</script>

<template>
  <Drawer open :title="`Deliveries of “${hook.name}”`" :width="720" @close="emit('close')">
    <p class="facts">
      <span :class="describeState(hook).look">{{ describeState(hook).text }}</span>
      <span class="muted">
        everything up to seq {{ hook.seq.toLocaleString() }} is delivered<template v-if="hook.waiting > 0"
          >, except of {{ hook.waiting.toLocaleString() }} {{ hook.waiting === 1 ? 'document' : 'documents' }}</template
        >
      </span>
      <Checkbox v-model:checked="onlyFailed" class="only">only failed</Checkbox>
    </p>
    <Alert v-if="failure" type="error" :message="failure" />
    <p v-if="deliveries?.length === 0" class="muted">
      {{ onlyFailed ? 'None of the latest deliveries failed.' : 'Nothing was delivered yet.' }}
    </p>
    <table v-else-if="deliveries" class="plain">
      <thead>
        <tr>
          <th scope="col">When</th>
          <th scope="col">Change</th>
          <th scope="col">Document</th>
          <th scope="col" class="numeric">Seq</th>
          <th scope="col" class="numeric">Attempt</th>
          <th scope="col" class="numeric">Took</th>
          <th scope="col">Answer</th>
        </tr>
      </thead>
      <tbody v-for="delivery in deliveries" :key="delivery.number">
        <tr>
          <td>
            <button
              type="button"
              class="when"
              :title="formatMoment(delivery.time)"
              :aria-expanded="details?.number === delivery.number"
              @click="toggle(delivery)"
            >
              {{ details?.number === delivery.number ? '▾' : '▸' }}
              {{ formatDuration(Math.max(0, Date.now() - Date.parse(delivery.time))) }} ago
            </button>
          </td>
          <td>{{ changeOf(delivery) }}</td>
          <td class="mono subject" :title="delivery.subject">{{ delivery.subject ?? '–' }}</td>
          <td class="numeric">{{ delivery.seq.toLocaleString() }}</td>
          <td class="numeric">{{ delivery.attempt }}</td>
          <td class="numeric">{{ Math.round(delivery.durationMs) }} ms</td>
          <td>
            <span :class="delivery.delivered ? 'live' : 'bad'" :title="delivery.error">{{
              delivery.status ?? 'no answer'
            }}</span>
          </td>
        </tr>
        <tr v-if="details?.number === delivery.number" class="inner">
          <td colspan="7">
            <p v-if="details.error" class="bad">{{ details.error }}</p>
            <template v-if="details.request">
              <div class="mono muted">POST {{ details.request.url }}</div>
              <pre class="mono">{{
                Object.entries(details.request.headers)
                  .map(([name, value]) => `${name}: ${value}`)
                  .join('\n')
              }}</pre>
              <pre class="mono">{{ pretty(details.request.body) }}</pre>
            </template>
            <p v-else class="muted">What was sent cannot be shown: the journal does not have the change any more.</p>
            <template v-if="details.answer">
              <div class="muted">answer</div>
              <pre class="mono">{{ details.answer }}</pre>
            </template>
            <Button size="small" @click="send(delivery)">Send again</Button>
          </td>
        </tr>
      </tbody>
    </table>
  </Drawer>
</template>

<style scoped>
.facts {
  margin-top: 0;
  display: flex;
  gap: 12px;
  align-items: center;
}
.only {
  margin-left: auto;
}
table {
  width: 100%;
}
.when {
  padding: 0;
  border: 0;
  background: none;
  color: var(--accent);
  font: inherit;
  white-space: nowrap;
  cursor: pointer;
}
.subject {
  max-width: 200px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.plain .inner td:first-child {
  padding: 8px 16px 12px;
  background: var(--paper-2);
}
pre {
  max-height: 260px;
  margin: 4px 0 10px;
  overflow: auto;
  font-size: 12px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.live {
  color: var(--live);
}
.behind {
  color: var(--warn);
}
.bad {
  color: var(--bad);
}
</style>
