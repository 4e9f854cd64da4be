<script setup lang="ts">
import type { View } from '@uproar/client';
import { TabPane, Tabs } from 'ant-design-vue';
import { computed } from 'vue';
import { useRoute, useRouter } from 'vue-router';
import PageFrame from '../components/PageFrame.vue';
import AccountsPanel from './AccountsPanel.vue';
import AuditPanel from './AuditPanel.vue';
import KeysPanel from './KeysPanel.vue';
import PolicyPanel from './PolicyPanel.vue';

defineProps<{ collections: View | undefined }>();
const route = useRoute();
const router = useRouter();
const TABS = ['policy', 'keys', 'accounts', 'audit'];
const tab = computed(() => (TABS.includes(String(route.params.tab)) ? String(route.params.tab) : 'policy'));
</script>

<template>
  <PageFrame title="Access">
    <Tabs
      class="tabs"
      :active-key="tab"
      destroy-inactive-tab-pane
      @change="(next) => router.push({ name: 'access', params: { tab: String(next) } })"
    >
      <TabPane key="policy" tab="Policy"><PolicyPanel :collections="collections" /></TabPane>
      <TabPane key="keys" tab="Keys"><KeysPanel /></TabPane>
      <TabPane key="accounts" tab="Accounts"><AccountsPanel /></TabPane>
      <TabPane key="audit" tab="Audit log"><AuditPanel /></TabPane>
    </Tabs>
  </PageFrame>
</template>

<style scoped>
.tabs {
  flex: 1;
  min-height: 0;
  padding: 0 16px 16px;
}
.tabs :deep(.ant-tabs-nav) {
  margin-bottom: 12px;
}
.tabs :deep(.ant-tabs-content),
.tabs :deep(.ant-tabs-tabpane) {
  height: 100%;
}
.tabs :deep(.ant-tabs-content-holder) {
  min-height: 0;
  overflow: auto;
}
</style>
