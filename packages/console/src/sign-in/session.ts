import type { Store } from '@uproar/client';
import { shallowRef } from 'vue';
import { takeConnection } from './connection';
import { KEY_ITEM } from './sign-in-link';
import { dropAllDrafts } from '../unsaved/drafts';

/** The store the console is signed in to; undefined while it is not. */
export const session = shallowRef<Store>();

/**
 * Signs in with a key, and keeps it until the browser session ends. Without one, connects as an anonymous caller.
 *
 * @throws {ProblemError} when the store refuses the key
 * @throws {ConnectionError} when it cannot be reached
 */
export async function signIn(key: string | undefined): Promise<void> {
  const { store, firstView } = takeConnection(key);
  try {
    await store.ready();
    await firstView();
  } catch (error) {
    store.close();
    throw error;
  }
  if (key !== undefined) sessionStorage.setItem(KEY_ITEM, key);
  session.value = store;
}

/** Whether the store allows anonymous callers. */
export async function takesNoKey(): Promise<boolean> {
  try {
    const { keyless } = (await (await fetch('/healthz')).json()) as { keyless: boolean };
    return keyless;
  } catch {
    return false;
  }
}

/** Forgets the key and everything that was typed, and closes the connection. */
export function signOut(): void {
  sessionStorage.removeItem(KEY_ITEM);
  dropAllDrafts();
  session.value?.close();
  // Nothing of one person is left in the page for the next.
  location.reload();
}
