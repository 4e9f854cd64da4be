<script setup lang="ts">
import type { ConnectionInfo, ConnectionListing } from '@uproar/protocol';
import { Alert, Button, Input, Popconfirm, Tag } from 'ant-design-vue';
import { computed, ref, watch } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import { formatBytes, formatDuration } from '@uproar/core';
import IdentityMenu from '../identity/IdentityMenu.vue';
import PageFrame from '../components/PageFrame.vue';
import WatchedLink from '../components/WatchedLink.vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';

const EVERY_MS = 1500;
const MOST_SHOWN = 300;
const store = useStore();
const notices = useNotices();
const route = useRoute();
const router = useRouter();
const search = computed(() => String(route.query.search ?? ''));
/** The text in the search field. The address follows it; another address replaces it. */
const typed = ref(search.value);
watch(typed, (text) => {
  if (text !== search.value) void router.replace({ name: 'devices', query: text ? { search: text } : {} });
});
watch(search, (text, before) => {
  if (typed.value === before) typed.value = text;
});
const open = ref(new Set<string>());

interface Seen extends ConnectionListing {
  timeMs: number;
  /** Bytes sent a second, by connection, since the time before. */
  rates: Map<string, number>;
}

const {
  value: seen,
  failure,
  again,
} = usePolled<Seen>(
  EVERY_MS,
  async (before) => {
    const query = new URLSearchParams({ limit: String(MOST_SHOWN), ...(search.value ? { search: search.value } : {}) });
    const listing = await store.fetch<ConnectionListing>(`/v1/connections?${query}`);
    const timeMs = performance.now();
    const sent = new Map(before?.connections.map(({ id, sentBytes }) => [id, sentBytes]));
    const seconds = (timeMs - (before?.timeMs ?? 0)) / 1000;
    const rates = listing.connections.map(({ id, sentBytes }): [string, number] => [
      id,
      sent.has(id) ? Math.max(0, sentBytes - sent.get(id)!) / seconds : 0,
    ]);
    return { ...listing, timeMs, rates: new Map(rates) };
  },
  () => search.value,
);

const behind = computed(
  () => seen.value?.connections.filter((connection) => lagOf(connection).commits > 0).length ?? 0,
);

function lagOf({ watches }: ConnectionInfo): { commits: number; ms: number } {
  return watches.reduce(
    (most, { commitsBehind, behindMs }) =>
      commitsBehind > most.commits ? { commits: commitsBehind, ms: behindMs } : most,
    { commits: 0, ms: 0 },
  );
}

/** The short name of the program: the browser, or its own name. */
function programOf({ agent }: ConnectionInfo): string {
  if (agent === undefined) return '';
  const browser = /(Firefox|Edg|OPR|Chrome|Safari)\/(\d+)/.exec(agent.replace(/Chrome\/\d+.*(Edg|OPR)/, '$1'));
  return agent.startsWith('Mozilla/') && browser ? `browser (${browser[1]} ${browser[2]})` : agent;
}

function toggle(id: string): void {
  const next = new Set(open.value);
  if (!next.delete(id)) next.add(id);
  open.value = next;
}

async function end({ id, device, identity }: ConnectionInfo): Promise<void> {
  try {
    await store.request('DELETE', `/v1/connections/${id}`);
    notices.success({ message: `Closed the connection of ${device ?? identity ?? 'an unknown device'}`, duration: 3 });
  } catch (error) {
    const description = describeFailure(error);
    notices.error({ message: 'Not closed', description });
  }
  again();
}
</script>

<template>
  <PageFrame title="Devices">
    <template #facts>
      <template v-if="seen">
        <Tag color="success">{{ seen.total.toLocaleString() }} connected</Tag>
        <Tag v-if="behind > 0" color="warning">{{ behind }} behind</Tag>
      </template>
      <span class="muted">connections, what each one watches, and its lag</span>
    </template>
    <template #tools>
      <Input
        v-model:value="typed"
        class="search"
        size="small"
        allow-clear
        placeholder="Find a device, identity or collection"
        aria-label="Find"
      />
    </template>
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-if="!seen && !failure" class="nothing muted">Loading…</div>
    <div v-else-if="seen && seen.connections.length === 0" class="nothing">
      <b>{{ search ? 'No matching connections' : 'No connections' }}</b>
    </div>
    <div v-else-if="seen" class="table" tabindex="0" role="region" aria-label="Connections">
      <table class="plain pinned">
        <thead>
          <tr>
            <th scope="col">Device</th>
            <th scope="col">Identity</th>
            <th scope="col">From</th>
            <th scope="col" class="numeric">For</th>
            <th scope="col">Watches</th>
            <th scope="col">Lag</th>
            <th scope="col" class="numeric">Sent</th>
            <th scope="col" class="numeric">Received</th>
            <th scope="col" class="numeric">Unread</th>
            <th scope="col"><span class="hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody v-for="connection in seen.connections" :key="connection.id">
          <tr>
            <td>
              <b v-if="connection.device">{{ connection.device }}</b>
              <span v-else-if="programOf(connection)">{{ programOf(connection) }}</span>
              <span v-else class="muted">no name</span>
              <small v-if="connection.transport === 'stream'" class="muted"> event stream</small>
            </td>
            <td>
              <IdentityMenu v-if="connection.identity" :identity="connection.identity" @shut-out="again" />
              <span v-else class="muted">unknown</span>
            </td>
            <td class="mono muted">{{ connection.address }}</td>
            <td class="numeric">{{ formatDuration(Date.now() - Date.parse(connection.since)) }}</td>
            <td>
              <span v-if="connection.watches.length === 0" class="muted">nothing</span>
              <WatchedLink v-else-if="connection.watches.length === 1" class="one" :watched="connection.watches[0]!" />
              <button
                v-else
                type="button"
                class="more"
                :aria-expanded="open.has(connection.id)"
                @click="toggle(connection.id)"
              >
                {{ open.has(connection.id) ? '▾' : '▸' }} {{ connection.watches.length }} things
              </button>
            </td>
            <td>
              <span v-if="connection.watches.length === 0" class="muted">–</span>
              <span v-else-if="lagOf(connection).commits === 0" class="even">up to date</span>
              <span v-else class="behind"
                >{{ lagOf(connection).commits.toLocaleString() }} commits,
                {{ formatDuration(lagOf(connection).ms) }}</span
              >
            </td>
            <td class="numeric">
              {{ formatBytes(connection.sentBytes) }}
              <small class="muted rate">{{ formatBytes(seen.rates.get(connection.id) ?? 0) }}/s</small>
            </td>
            <td class="numeric">{{ formatBytes(connection.receivedBytes) }}</td>
            <td class="numeric" :class="{ behind: connection.unreadBytes > 65536 }">
              {{ formatBytes(connection.unreadBytes) }}
            </td>
            <td class="numeric">
              <Popconfirm
                title="Close this connection?"
                description="The device may reconnect. To keep it out, revoke its key or change the policy."
                ok-text="Close"
                placement="left"
                :ok-button-props="{ danger: true }"
                @confirm="end(connection)"
              >
                <Button type="link" danger size="small" :aria-label="`Close ${connection.device ?? connection.id}`"
                  >Close</Button
                >
              </Popconfirm>
            </td>
          </tr>
          <tr v-if="open.has(connection.id) && connection.watches.length > 1" class="inner">
            <td colspan="10">
              <ul>
                <li v-for="(watched, index) in connection.watches" :key="index">
                  <WatchedLink :watched="watched" />
                  <span v-if="watched.commitsBehind > 0" class="behind"
                    >{{ watched.commitsBehind }} commits behind</span
                  >
                </li>
              </ul>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="seen.found > seen.connections.length" class="muted">
        {{ (seen.found - seen.connections.length).toLocaleString() }} more are not shown. Use the search above.
      </p>
    </div>
  </PageFrame>
</template>

<style scoped>
.search {
  width: 300px;
}
.table {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
tbody tr:hover {
  background: var(--paper-2);
}
.one {
  max-width: 210px;
}
.rate {
  display: inline-block;
  min-width: 62px;
}
.more {
  padding: 0;
  border: 0;
  background: none;
  color: var(--accent);
  font: inherit;
  cursor: pointer;
}
.even {
  color: var(--live);
}
.behind {
  color: var(--warn);
  font-weight: 600;
}
.plain .inner td:first-child {
  padding: 4px 16px 8px 32px;
  background: var(--paper-2);
}
ul {
  margin: 0;
  padding: 0;
  list-style: none;
}
li {
  display: flex;
  gap: 12px;
}
p {
  padding: 0 16px;
}
</style>
