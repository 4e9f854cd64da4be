import type { Store } from '@uproar/client';
import type { NotificationInstance } from 'ant-design-vue/es/notification/interface';
import { inject, type InjectionKey } from 'vue';

export const StoreKey: InjectionKey<Store> = Symbol('store');
/** Shows notices in a corner of the page. */
export type Notices = Pick<NotificationInstance, 'success' | 'info' | 'error' | 'destroy'>;
export const NoticesKey: InjectionKey<Notices> = Symbol('notices');

/** The store the console is signed in to. */
export function useStore(): Store {
  return inject(StoreKey)!;
}

/** What shows notices. */
export function useNotices(): Notices {
  return inject(NoticesKey)!;
}
