import { expect } from 'chai';
import type { LiveEvent } from '../dist/live/live-event.js';
import { LiveViews } from '../dist/live/live-views.js';
import { MetricsRecorder } from '../dist/metrics/metrics-recorder.js';
import { openStore, type Store } from '../dist/store/index.js';
import type { Subscription } from '../dist/live/subscription.js';
import { EVERYBODY } from '../../../test/read-scope.js';
import { temporaryDirectory, until } from '../../../test/service.js';

/** So many that the store is read with pauses. */
const DOCUMENTS = 4000;

const sleep = (ms: number) => new Promise((resolve) => setTimeout(resolve, ms));

describe('the first result of a large view', () => {
  let store: Store;
  let views: LiveViews;
  let readings: number;
  let remove: () => void;
  const devices: Device[] = [];

  beforeEach(async () => {
    const directory = temporaryDirectory();
    remove = directory.remove;
    store = openStore(directory.path);
    views = new LiveViews(store, new MetricsRecorder());
    await put(Array.from({ length: DOCUMENTS }, (_, n) => `f-${n}`));
    readings = 0;
    const { reader } = store;
    const stream = reader.streamInSlices.bind(reader);
    reader.streamInSlices = async function* (...parameters) {
      readings++;
      for await (const slice of stream(...parameters)) {
        yield slice;
        await sleep(50);
      }
    };
  });

  afterEach(() => {
    for (const device of devices.splice(0)) device.subscription.stop();
    views.close();
    store.close();
    remove();
  });

  const put = (ids: string[], collection = 'flights') =>
    store.log.append({
      timeMs: 1,
      author: { kind: 'key', name: 'test' },
      writes: ids.map((id) => ({ kind: 'put', collection, id, data: {} })),
    });

  const join = () => {
    const device = new Device(views);
    devices.push(device);
    return device;
  };

  it('is read once for 50 devices that begin at once, which share its text', async () => {
    for (let n = 0; n < 50; n++) join();
    await until('all results', () => devices.every(({ events }) => events.length > 0));
    expect(readings).to.equal(1);
    const texts = new Set(devices.map(({ events }) => events[0]!.state));
    expect(texts.size, 'one text for all of them').to.equal(1);
    expect(devices[0]!.ids.size).to.equal(DOCUMENTS);
  });

  it('is kept for later devices, also after a write to another collection', async () => {
    join();
    await until('the result', () => devices[0]!.events.length > 0);
    await put(['of-another'], 'crews');
    const later = join();
    await until('the result', () => later.events.length > 0);
    expect(readings).to.equal(1);
    expect(later.events[0]).to.include({ seq: 2, state: devices[0]!.events[0]!.state });
    await put(['one-more']);
    const last = join();
    await until('the result', () => last.events.length > 0);
    expect(readings).to.equal(2);
    expect(last.ids.has('one-more') && later.ids.has('one-more')).to.equal(true);
  });

  it('is read few times while documents are written, and contains all writes from before the device began', async () => {
    const written: string[] = [];
    for (let n = 0; n < 60; n++) {
      const id = `new-${n}`;
      await put([id]);
      written.push(id);
      join().expects = [...written];
    }
    await until('all results', () => devices.every(({ events }) => events.length > 0));
    for (const { first, expects } of devices) {
      expect(expects.filter((id) => !first.has(id))).to.deep.equal([]);
    }
    expect(readings).to.be.within(2, 20);
    await until('the last document everywhere', () => devices.every(({ ids }) => ids.size === DOCUMENTS + 60));
  });

  it('reaches the devices that stay when others leave, and a new device after all have left', async () => {
    const leaving = Array.from({ length: 5 }, join);
    await put(['between']);
    const waiting = Array.from({ length: 5 }, join);
    for (const device of [...leaving, ...waiting.slice(1)]) device.subscription.stop();
    await until('the result', () => waiting[0]!.events.length > 0);
    expect(waiting[0]!.ids.has('between')).to.equal(true);
    for (const device of devices.splice(0)) device.subscription.stop();
    const last = join();
    await until('the result', () => last.events.length > 0);
    expect(last.ids.size).to.equal(DOCUMENTS + 1);
    expect(leaving.flatMap(({ events }) => events)).to.deep.equal([]);
  });

  it('is read again for the next device after a failure', async () => {
    const { reader } = store;
    const stream = reader.streamInSlices;
    reader.streamInSlices = () => {
      throw new Error('The disk cannot be read.');
    };
    const failed = Array.from({ length: 3 }, join);
    await until('the failures', () => failed.every(({ failures }) => failures.length > 0));
    reader.streamInSlices = stream;
    const next = join();
    await until('the result', () => next.events.length > 0);
    expect(next.ids.size).to.equal(DOCUMENTS);
  });
});

/** A connection that watches all flights, and keeps the ids that it has heard of. */
class Device {
  readonly full = false;
  readonly events: LiveEvent[] = [];
  readonly failures: unknown[] = [];
  readonly ids = new Set<string>();
  readonly subscription: Subscription;
  first = new Set<string>();
  expects: string[] = [];

  constructor(views: LiveViews) {
    this.subscription = views.watch(
      { query: { from: 'flights', limit: 'none' } },
      EVERYBODY,
      this,
      undefined,
      (first) => {
        this.send(first);
        this.first = new Set(this.ids);
      },
      (error) => this.failures.push(error),
    );
  }

  send(event: LiveEvent): void {
    this.events.push(event);
    const { documents, patch } = JSON.parse(`{${event.members}}`) as {
      documents?: { id: string }[];
      patch?: { path: string }[];
    };
    for (const { id } of documents ?? []) this.ids.add(id);
    for (const { path } of patch ?? []) this.ids.add(path.slice(1));
  }
}
