import type { Store } from '@uproar/client';
import type { NotificationInstance } from 'ant-design-vue/es/notification/interface';
import { inject, type InjectionKey } from 'vue';

export const StoreKey: InjectionKey<Store> = Symbol('store');
export const NoticesKey: InjectionKey<NotificationInstance> = Symbol('notices');

/** The store the console is signed in to. */
export function useStore(): Store {
  return inject(StoreKey)!;
}

/** Shows notices in the corner of the page. */
export function useNotices(): NotificationInstance {
  return inject(NoticesKey)!;
}
