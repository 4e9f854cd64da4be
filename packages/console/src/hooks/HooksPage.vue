<script setup lang="ts">
import type { View } from '@uproar/client';
import type { DeliveryResult, HookInfo, NewHook } from '@uproar/protocol';
import { Alert, Button, Dropdown, Menu, MenuItem, Modal, Tag } from 'ant-design-vue';
import { computed, ref, shallowRef } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import PageFrame from '../components/PageFrame.vue';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';
import { usePolled } from '../shared/use-polled';
import DeliveriesDrawer from './DeliveriesDrawer.vue';
import HookForm from './HookForm.vue';
import { describeKinds, describeState } from './describe-hook';

defineProps<{ collections: View | undefined }>();

const EVERY_MS = 2000;
const store = useStore();
const notices = useNotices();
const route = useRoute();
const router = useRouter();
const {
  value: hooks,
  failure,
  again,
} = usePolled<HookInfo[]>(EVERY_MS, async () => (await store.fetch<{ hooks: HookInfo[] }>('/v1/hooks')).hooks);

/** What is being written: a new hook, or changes of one. */
const editing = ref<'new' | HookInfo>();
/** A secret that was just made, shown once. */
const made = shallowRef<NewHook>();
const opened = computed(() => hooks.value?.find(({ name }) => name === route.query.hook));
const failing = computed(() => hooks.value?.filter((hook) => hook.paused ?? hook.failing).length ?? 0);

const pathOf = ({ id }: HookInfo) => `/v1/hooks/${id}`;
const open = (hook: HookInfo | undefined) =>
  router.push({ name: 'hooks', query: hook === undefined ? {} : { hook: hook.name } });

async function act(what: string, work: () => Promise<unknown>): Promise<void> {
  try {
    await work();
  } catch (error) {
    notices.error({ message: what, description: describeFailure(error) });
  }
  again();
}

const ACTIONS: Record<string, (hook: HookInfo) => Promise<void>> = {
  pause: (hook) => act('Not paused', () => store.post(`${pathOf(hook)}/pause`, {})),
  resume: (hook) => act('Not resumed', () => store.post(`${pathOf(hook)}/resume`, {})),
  test: (hook) =>
    act('Not sent', async () => {
      const { delivered, status, error, durationMs } = await store.post<DeliveryResult>(`${pathOf(hook)}/test`, {});
      const message = delivered ? 'The receiver took the test event' : 'The receiver did not take the test event';
      const description = `${status ?? error} after ${Math.round(durationMs)} ms`;
      notices[delivered ? 'success' : 'error']({ message, description });
    }),
  change: (hook) => Promise.resolve(void (editing.value = hook)),
  rotate: (hook) =>
    act('Not rotated', async () => {
      made.value = await store.post<NewHook>(`${pathOf(hook)}/rotate`, { keepOldSeconds: 86_400 });
    }),
  remove: (hook) =>
    Promise.resolve(
      void Modal.confirm({
        title: `Remove the hook “${hook.name}”?`,
        content: 'Changes that it has not delivered yet are not delivered.',
        okText: 'Remove',
        okType: 'danger',
        onOk: () => act('Not removed', () => store.request('DELETE', pathOf(hook))),
      }),
    ),
};

function done(hook: NewHook | undefined): void {
  editing.value = undefined;
  made.value = hook;
  again();
}

async function copy(secret: string): Promise<void> {
  await navigator.clipboard.writeText(secret);
  notices.success({ message: 'Copied' });
}

const count = (number: number, word: string) => `${number.toLocaleString()} ${word}${number === 1 ? '' : 's'}`;
</script>

<template>
  <PageFrame title="Hooks">
    <template #facts>
      <Tag v-if="hooks && failing > 0" color="error">{{ failing }} paused or failing</Tag>
      <span class="muted">changes that are delivered to other servers</span>
    </template>
    <template #tools>
      <Button type="primary" size="small" @click="editing = 'new'">New hook</Button>
    </template>
    <Alert v-if="failure" banner type="error" :message="failure" />
    <div v-if="!hooks && !failure" class="nothing muted">Loading…</div>
    <div v-else-if="hooks?.length === 0" class="nothing">
      <b>No hooks</b>
      <p class="muted">
        A hook posts every change of a collection to an address of yours, as a signed CloudEvent, in order for each
        document and until your server has taken it.
      </p>
      <Button type="primary" @click="editing = 'new'">Create the first hook</Button>
    </div>
    <div v-else-if="hooks" class="table" tabindex="0" role="region" aria-label="Hooks">
      <table class="plain pinned">
        <thead>
          <tr>
            <th scope="col">Name</th>
            <th scope="col">Delivers</th>
            <th scope="col">To</th>
            <th scope="col" class="numeric">Behind</th>
            <th scope="col" class="numeric">Waiting</th>
            <th scope="col">State</th>
            <th scope="col"><span class="hidden">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="hook in hooks" :key="hook.id">
            <td>
              <button type="button" class="name as-link" @click="open(hook)">{{ hook.name }}</button>
            </td>
            <td>
              <span>{{ describeKinds(hook) }}</span>
              <div v-if="hook.where" class="mono muted condition" :title="hook.where">{{ hook.where }}</div>
            </td>
            <td class="mono muted address" :title="hook.url">{{ hook.url }}</td>
            <td class="numeric">{{ hook.commitsBehind === 0 ? '–' : count(hook.commitsBehind, 'commit') }}</td>
            <td class="numeric">{{ hook.waiting === 0 ? '–' : count(hook.waiting, 'document') }}</td>
            <td>
              <span :class="describeState(hook).look">{{ describeState(hook).text }}</span>
              <div v-if="hook.paused" class="muted reason">{{ hook.paused.reason }}</div>
              <div v-if="hook.missed" class="behind reason">
                missed seq {{ hook.missed.after + 1 }} to {{ hook.missed.upTo }}
              </div>
            </td>
            <td class="numeric">
              <Button type="link" size="small" @click="open(hook)">Deliveries</Button>
              <Dropdown :trigger="['click']" placement="bottomRight">
                <Button type="text" size="small" :aria-label="`More for ${hook.name}`">⋯</Button>
                <template #overlay>
                  <Menu @click="({ key }) => ACTIONS[String(key)]!(hook)">
                    <MenuItem key="test">Send a test event</MenuItem>
                    <MenuItem key="change">Change…</MenuItem>
                    <MenuItem v-if="hook.paused" key="resume">Resume</MenuItem>
                    <MenuItem v-else key="pause">Pause</MenuItem>
                    <MenuItem key="rotate">New secret</MenuItem>
                    <MenuItem key="remove" danger>Remove…</MenuItem>
                  </Menu>
                </template>
              </Dropdown>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <HookForm
      v-if="editing"
      :hook="editing === 'new' ? undefined : editing"
      :collections="collections"
      @done="done"
      @cancel="editing = undefined"
    />
    <DeliveriesDrawer v-if="opened" :key="opened.id" :hook="opened" @close="open(undefined)" />
    <Modal :open="made !== undefined" :title="`The secret of “${made?.name}”`" :closable="false" :mask-closable="false">
      <p>
        Your server checks signatures with it. It is shown only once.
        <template v-if="made?.oldSecretUntil">For a day, deliveries are signed with the old secret, too.</template>
      </p>
      <p class="mono secret">{{ made?.secret }}</p>
      <template #footer>
        <Button @click="copy(made!.secret)">Copy</Button>
        <Button type="primary" @click="made = undefined">Done</Button>
      </template>
    </Modal>
  </PageFrame>
</template>

<style scoped>
.table {
  flex: 1;
  min-height: 0;
  overflow: auto;
}
td {
  vertical-align: top;
}
.name {
  font-weight: 600;
}
.condition,
.address {
  max-width: 260px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.reason {
  max-width: 260px;
}
.live {
  color: var(--live);
}
.behind {
  color: var(--warn);
}
.bad {
  color: var(--bad);
  font-weight: 600;
}
.secret {
  overflow-wrap: anywhere;
  user-select: all;
}
.nothing p {
  max-width: 460px;
  margin: 8px auto 16px;
}
</style>
