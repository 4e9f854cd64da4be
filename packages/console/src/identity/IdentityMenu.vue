<script setup lang="ts">
import type { AccountInfo, KeyInfo } from '@uproar/protocol';
import { Dropdown, Menu, MenuDivider, MenuItem, Modal } from 'ant-design-vue';
import { computed, ref, shallowRef } from 'vue';
import { useRouter } from 'vue-router';
import { describeFailure } from '../shared/failure';
import { useNotices, useStore } from '../shared/injection';

/** A menu for an identity: links to its writes, connections, usage and rights, and an action that revokes its key or account. */
const props = defineProps<{ identity: string }>();
const emit = defineEmits<{ shutOut: [] }>();
const store = useStore();
const notices = useNotices();
const router = useRouter();
const [modal, ModalHolder] = Modal.useModal();

const MOST_ACCOUNTS = 1000;
const kind = computed(() => props.identity.split(':')[0]!);
const name = computed(() => props.identity.slice(kind.value.length + 1));
/** The key or account, once the menu was opened; undefined while unknown, null if there is none that can be changed. */
const key = shallowRef<KeyInfo | null>();
const account = shallowRef<AccountInfo | null>();
const failure = ref('');

async function look(): Promise<void> {
  failure.value = '';
  try {
    if (kind.value === 'key') {
      const { keys } = await store.fetch<{ keys: KeyInfo[] }>('/v1/keys');
      key.value = keys.find((one) => one.name === name.value) ?? null;
    } else if (kind.value === 'account') {
      const { accounts } = await store.fetch<{ accounts: AccountInfo[] }>(`/v1/accounts?limit=${MOST_ACCOUNTS}`);
      account.value = accounts.find((one) => one.id === name.value) ?? null;
    }
  } catch (error) {
    failure.value = describeFailure(error);
  }
}

/** What the identity may see, in words. */
const access = computed(() => {
  if (kind.value === 'key') {
    const only = key.value?.collections;
    return only
      ? `May use ${only.join(', ')} (${key.value!.scope})`
      : 'May see everything: the policy does not apply to keys';
  }
  return undefined;
});

function confirmShutOut(): void {
  const isKey = kind.value === 'key';
  const title = isKey
    ? `Revoke the key “${name.value}”?`
    : `Disable the account “${account.value?.name ?? name.value}”?`;
  modal.confirm({
    title,
    content: isKey
      ? 'All its connections are closed, and it is refused from now on. This cannot be undone.'
      : 'All its sessions end, and it cannot sign in until it is enabled on the page Access.',
    okText: isKey ? 'Revoke' : 'Disable',
    okButtonProps: { danger: true },
    onOk: () => void shutOut(isKey),
  });
}
async function shutOut(isKey: boolean): Promise<void> {
  try {
    if (isKey) await store.request('DELETE', `/v1/keys/${key.value!.id}`);
    else await store.request('PATCH', `/v1/accounts/${account.value!.id}`, { disabled: true });
    notices.success({
      message: isKey ? `Revoked the key ${name.value}` : `Disabled ${account.value!.name ?? name.value}`,
      duration: 4,
    });
    emit('shutOut');
  } catch (error) {
    notices.error({ message: isKey ? 'Not revoked' : 'Not disabled', description: describeFailure(error) });
  }
}
const canShutOut = computed(() =>
  kind.value === 'key' ? Boolean(key.value) : Boolean(account.value) && !account.value!.disabled,
);
</script>

<template>
  <ModalHolder />
  <Dropdown :trigger="['click']" @open-change="(open: boolean) => open && look()">
    <button type="button" class="as-link mono" :aria-label="`About ${identity}`">
      {{ account?.name ? `${kind}:${account.name}` : identity }}
    </button>
    <template #overlay>
      <Menu>
        <MenuItem key="writes" @click="router.push({ name: 'journal', query: { identity } })"
          >Its writes in the journal</MenuItem
        >
        <MenuItem key="connections" @click="router.push({ name: 'devices', query: { search: identity } })"
          >Its connections</MenuItem
        >
        <MenuItem key="usage" @click="router.push({ name: 'usage', query: { identity } })">Its usage</MenuItem>
        <MenuItem v-if="access" key="access" disabled>{{ access }}</MenuItem>
        <MenuItem
          v-else-if="kind === 'account' && account?.name"
          key="sees"
          @click="router.push({ name: 'access', params: { tab: 'policy' }, query: { account: account.name } })"
          >What it may see</MenuItem
        >
        <MenuItem
          v-else-if="kind === 'anonymous'"
          key="anonymous"
          @click="router.push({ name: 'access', params: { tab: 'policy' }, query: { account: '' } })"
          >What it may see</MenuItem
        >
        <template v-if="kind === 'key' || kind === 'account'">
          <MenuDivider />
          <MenuItem v-if="failure" key="failure" disabled>{{ failure }}</MenuItem>
          <MenuItem v-else-if="key === null" key="none" disabled
            >This key is not managed here: it comes from the settings, or was revoked</MenuItem
          >
          <MenuItem v-else-if="account === null" key="gone" disabled>This account does not exist any more</MenuItem>
          <MenuItem v-else-if="account?.disabled" key="off" disabled>This account is disabled</MenuItem>
          <MenuItem v-else key="out" danger :disabled="!canShutOut" @click="confirmShutOut">{{
            kind === 'key' ? 'Revoke the key…' : 'Disable the account…'
          }}</MenuItem>
        </template>
      </Menu>
    </template>
  </Dropdown>
</template>
