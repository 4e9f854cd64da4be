import { expect } from 'chai';
import { effectScope, nextTick, ref, watch } from 'vue';
import { useConnection, useDocument, usePending, useWatch } from '@uproar/vue';
import { TestService, until } from '../../../test/service.js';

describe('the Vue composables', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('return a watch as a ref, begin another when their dependencies change, and close with their scope', async () => {
    const store = service.client();
    await store.collection('balloons').put('a', { status: 'aloft' });
    await store.collection('balloons').put('b', { status: 'packed' });
    const status = ref('aloft');
    const scope = effectScope();
    const view = scope.run(() =>
      useWatch(() => store.collection('balloons').watch({ where: `status = '${status.value}'` })),
    )!;
    expect(view.value?.state).to.equal('loading');
    await until('the first result', () => view.value?.state === 'live');
    expect(view.value!.documents.map(({ id }) => id)).to.deep.equal(['a']);

    status.value = 'packed';
    await nextTick();
    expect(view.value?.state, 'nothing of the old view is left').to.equal('loading');
    await until('the second result', () => view.value?.state === 'live');
    expect(view.value!.documents.map(({ id }) => id)).to.deep.equal(['b']);
    await store.collection('balloons').merge('a', { status: 'packed' });
    expect(view.value!.documents.map(({ id }) => id)).to.deep.equal(['a', 'b']);

    const last = view.value;
    scope.stop();
    await store.collection('balloons').put('c', { status: 'packed' });
    await new Promise((resolve) => setTimeout(resolve, 50));
    expect(view.value, 'nothing comes after the end').to.equal(last);
  });

  it('return nothing without a watch', async () => {
    const store = service.client();
    const name = ref('');
    const scope = effectScope();
    const view = scope.run(() =>
      useWatch(() => (name.value === '' ? undefined : store.collection(name.value).watch())),
    )!;
    expect(view.value).to.equal(undefined);
    name.value = 'balloons';
    await until('it is live', () => view.value?.state === 'live');
    name.value = '';
    await nextTick();
    expect(view.value).to.equal(undefined);
    scope.stop();
  });

  it('show one document, follow another id, and count what waits', async () => {
    const store = service.client();
    const crews = store.collection('crews');
    await crews.put('c-1', { name: 'Lookouts' });
    const id = ref('c-1');
    const scope = effectScope();
    const [shown, pending] = scope.run(() => [useDocument(crews, id), usePending(store)] as const)!;
    expect(shown.value).to.deep.equal({ document: undefined, state: 'loading', pending: false, error: undefined });
    await until('it is there', () => shown.value.document?.data.name === 'Lookouts');
    const counts: number[] = [];
    watch(pending, (count) => counts.push(count), { flush: 'sync' });
    const names: unknown[] = [];
    watch(shown, ({ document, pending }) => names.push([document?.data.name, pending]), { flush: 'sync' });
    await crews.merge('c-1', { name: 'Chasers' });
    await until('it is acknowledged', () => !shown.value.pending && pending.value === 0);
    expect(counts).to.deep.equal([1, 0]);
    expect(names[0], 'at once').to.deep.equal(['Chasers', true]);
    expect(names.at(-1)).to.deep.equal(['Chasers', false]);
    id.value = 'c-2';
    await nextTick();
    await until('there is no such document', () => shown.value.state === 'live');
    expect(shown.value.document).to.equal(undefined);
    scope.stop();
  });

  it('show the state of the connection', async () => {
    const own = await TestService.start();
    const store = own.client();
    const scope = effectScope();
    const state = scope.run(() => useConnection(store))!;
    await until('it is online', () => state.value.name === 'online');
    const names: string[] = [];
    const stop = watch(state, ({ name }) => names.push(name), { flush: 'sync' });
    await own.restart();
    await until('it was away', () => names.includes('offline'));
    await until('it is online again', () => state.value.name === 'online');
    stop();
    store.close();
    expect(state.value.name).to.equal('closed');
    scope.stop();
    await own.stop();
  });
});
