/** The item of the session storage that holds the key. */
export const KEY_ITEM = 'uproar-key';

/** The key kept for this browser session. */
export function keptKey(): string | undefined {
  return sessionStorage.getItem(KEY_ITEM) ?? undefined;
}

/** Stores the key of a sign-in link and removes it from the address, so that it is not shared by accident. */
export function takeSignInKey(): void {
  const key = new URLSearchParams(location.hash.slice(1)).get('key');
  if (key === null) return;
  sessionStorage.setItem(KEY_ITEM, key);
  history.replaceState(history.state, '', location.pathname + location.search);
}
