<script lang="ts">
  import { onDestroy } from 'svelte';
  import { checks, store } from './store.js';

  // A watch and the store follow Svelte's store contract.
  const watch = checks.order('text').limit(100).watch();
  onDestroy(() => watch.close());

  let text = $state('');
  let refused = $state('');

  /** Shows why the store refused a write. The view has undone it by then. */
  function report(write: Promise<unknown>) {
    refused = '';
    write.catch((error) => (refused = error.message));
  }

  function add(event: SubmitEvent) {
    event.preventDefault();
    report(checks.create({ text, done: false }));
    text = '';
  }
</script>

<h1>Before the start</h1>
<p>{$store.name}{$store && store.pending > 0 ? `, ${store.pending} waiting` : ''}</p>

<form onsubmit={add}>
  <input bind:value={text} aria-label="New check" />
  <button>Add</button>
</form>

{#if refused}<p role="alert">{refused}</p>{/if}
{#if $watch.state === 'failed'}<p role="alert">{$watch.error?.title}</p>{/if}

<ul>
  {#each $watch.documents as check (check.id)}
    <li class:pending={$watch.pending.has(check.id)}>
      <label>
        <input
          type="checkbox"
          checked={check.data.done}
          onchange={() => report(checks.merge(check.id, { done: !check.data.done }))}
        />
        {check.data.text}
      </label>
      <button onclick={() => report(checks.delete(check.id))} aria-label={`Delete ${check.data.text}`}>×</button>
    </li>
  {/each}
</ul>
