/** Where the key is kept for this browser session. */
export const KEY_ITEM = 'uproar-key';

// Takes over the key of a sign-in link and removes it from the address, so that it is not passed on by accident. This
// is done while the module loads, before the router looks at the address.
const key = new URLSearchParams(location.hash.slice(1)).get('key');
if (key !== null) {
  sessionStorage.setItem(KEY_ITEM, key);
  history.replaceState(history.state, '', location.pathname + location.search);
}
