import { expect } from 'chai';
import { effectScope, nextTick, ref, watch } from 'vue';
import { useConnection, useWatch } from '@uproar/vue';
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
