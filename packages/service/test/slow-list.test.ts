import { expect } from 'chai';
import { temporaryDirectory } from '../../../test/service.js';
import type { LiveEvent } from '../dist/live/live-event.js';
import { LiveViews } from '../dist/live/live-views.js';
import { MetricsRecorder } from '../dist/metrics/metrics-recorder.js';
import { openStore } from '../dist/store/index.js';
import { EVERYBODY } from '../../../test/read-scope.js';

const sleep = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

describe('a slow reader of the list of collections', () => {
  it('is brought up to date once, although the list itself follows commits with a delay', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const views = new LiveViews(store, new MetricsRecorder());
    const sent: LiveEvent[] = [];
    const sink = { full: false, send: (event: LiveEvent) => void sent.push(event) };
    const subscription = views.watch({ collections: true }, EVERYBODY, sink, undefined, (first) => sent.push(first));
    let lastId = 0;
    const write = () =>
      store.log.append({
        timeMs: 1,
        author: { kind: 'key', name: 'test' },
        writes: [{ kind: 'put', collection: 'notes', id: `n-${++lastId}`, data: {} }],
      });
    sink.full = true;
    await write();
    // The list gets the change, and this reader falls behind.
    await sleep(400);
    // Now the list itself is behind the store, when the reader reads on.
    await write();
    sink.full = false;
    void subscription.catchUp();
    await sleep(100);
    expect(sent.length).to.be.below(5);
    await sleep(400);
    await write();
    await sleep(400);
    expect(sent.at(-1)!.members).to.include('"documents"');
    expect(sent.at(-1)!.seq).to.equal(3);
    subscription.stop();
    views.close();
    store.close();
    remove();
  });
});
