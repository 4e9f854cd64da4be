import { createSignal, For, from, onCleanup, Show } from 'solid-js';
import { render } from 'solid-js/web';
import { checks, store } from './store.js';

function App() {
  const watch = checks.order('text').limit(100).watch();
  onCleanup(() => watch.close());
  // Documents that did not change are the same objects, so `For` keeps their rows.
  const view = from(watch);
  const connection = from(store);
  const [text, setText] = createSignal('');
  const [refused, setRefused] = createSignal('');

  /** Shows why the store refused a write. The view has undone it by then. */
  const report = (write: Promise<unknown>) => {
    setRefused('');
    write.catch((error: Error) => setRefused(error.message));
  };

  const add = (event: SubmitEvent) => {
    event.preventDefault();
    report(checks.create({ text: text(), done: false }));
    setText('');
  };

  return (
    <>
      <h1>Before the start</h1>
      <p>
        {connection()?.name}
        {connection() && store.pending > 0 ? `, ${store.pending} waiting` : ''}
      </p>
      <form onSubmit={add}>
        <input value={text()} onInput={(event) => setText(event.currentTarget.value)} aria-label="New check" />
        <button>Add</button>
      </form>
      <Show when={refused() || view()?.error?.title}>{(message) => <p role="alert">{message()}</p>}</Show>
      <ul>
        <For each={view()?.documents}>
          {(check) => (
            <li classList={{ pending: view()?.pending.has(check.id) }}>
              <label>
                <input
                  type="checkbox"
                  checked={check.data.done}
                  onChange={() => report(checks.merge(check.id, { done: !check.data.done }))}
                />
                {check.data.text}
              </label>
              <button onClick={() => report(checks.delete(check.id))} aria-label={`Delete ${check.data.text}`}>
                ×
              </button>
            </li>
          )}
        </For>
      </ul>
    </>
  );
}

render(() => <App />, document.getElementById('app')!);
