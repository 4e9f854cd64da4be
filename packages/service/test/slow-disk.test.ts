import { mkdirSync } from 'node:fs';
import { join } from 'node:path';
import { setTimeout as sleep } from 'node:timers/promises';
import { expect } from 'chai';
import { connect } from '@uproar/client';
import { StreamReader } from '../../../test/event-stream.js';
import { ServedProcess } from '../../../test/served-process.js';
import { KEY, temporaryDirectory, until } from '../../../test/service.js';
import { SlowDisk } from '../../../test/slow-disk/slow-disk.js';

describe('a disk whose syncs take half a second', () => {
  const { path: workspace, remove } = temporaryDirectory();
  const disk = new SlowDisk(workspace, 500);
  let served: ServedProcess;

  before(async () => {
    mkdirSync(join(workspace, 'data'));
    served = await ServedProcess.start(join(workspace, 'data'), 0, [], disk.environment);
  });
  after(async () => {
    await served.stop('SIGTERM');
    remove();
  });
  const ask = (method: string, path: string, body?: unknown) =>
    fetch(served.url + path, {
      method,
      headers: { authorization: `Bearer ${KEY}`, 'content-type': 'application/json' },
      body: body === undefined ? null : JSON.stringify(body),
    });

  it('holds up neither reads nor connections: they are answered while a write waits for its sync', async () => {
    await ask('PUT', '/v1/data/a/known', { n: 1 });
    for (let round = 0; round < 3; round++) {
      let written = false;
      const writing = ask('PUT', '/v1/data/a/known', { n: round + 2 }).then(() => (written = true));
      await sleep(50);
      const answers: unknown[] = [];
      for (let n = 0; n < 10; n++)
        answers.push(((await (await ask('GET', '/v1/data/a/known')).json()) as { data: unknown }).data);
      expect((await ask('GET', '/v1/data/a?where=n>0')).status).to.equal(200);
      expect(written, 'the write waits longer than all these reads').to.equal(false);
      expect(answers, 'nothing is shown that is not on disk').to.deep.equal(
        Array.from({ length: 10 }, () => ({ n: round + 1 })),
      );
      await writing;
      expect(((await (await ask('GET', '/v1/data/a/known')).json()) as { data: unknown }).data).to.deep.equal({
        n: round + 2,
      });
    }
  });

  it('delivers a change after its sync, not before, and not through a long read either', async () => {
    const stream = await StreamReader.open(`${served.url}/v1/data/b?limit=none`);
    let written = false;
    const writing = ask('PUT', '/v1/data/b/one', { n: 1 }).then(() => (written = true));
    await sleep(100);
    const exported = await (await ask('GET', '/v1/data/b?limit=none&order=-n')).text();
    if (!written) expect([Object.keys(stream.state), exported.includes('"one"')]).to.deep.equal([[], false]);
    await writing;
    await until('the change is delivered', () => 'one' in stream.state);
    stream.close();
  });

  it('is shared by writers: at least ten commits for each sync', async () => {
    const stores = Array.from({ length: 64 }, () => connect(served.url, { token: KEY, outbox: false }));
    await Promise.all(stores.map((store) => store.ready()));
    const before = disk.syncs;
    await Promise.all(
      stores.map(async (store, writer) => {
        for (let n = 0; n < 4; n++) await store.commit({ writes: [{ put: `c/${writer}-${n}`, data: { n } }] });
      }),
    );
    expect((64 * 4) / (disk.syncs - before), 'commits for each sync').to.be.at.least(10);
    for (const store of stores) store.close();
  });
});

describe('a disk whose syncs fail', () => {
  it('refuses writes until the next start, and shows nothing that may not be on disk', async () => {
    const { path: workspace, remove } = temporaryDirectory();
    const disk = new SlowDisk(workspace, 0);
    const data = join(workspace, 'data');
    mkdirSync(data);
    let served = await ServedProcess.start(data, 0, [], disk.environment);
    const ask = async (method: string, path: string, body?: unknown) => {
      const response = await fetch(served.url + path, {
        method,
        headers: { authorization: `Bearer ${KEY}`, 'content-type': 'application/json', connection: 'close' },
        body: body === undefined ? null : JSON.stringify(body),
      });
      return { status: response.status, json: (await response.json()) as Record<string, unknown> };
    };
    expect((await ask('PUT', '/v1/data/a/one', { n: 1 })).status).to.equal(201);

    disk.setFailing(true);
    const unsure = await ask('POST', '/v1/commits', { id: 'unsure', writes: [{ put: 'a/one', data: { n: 2 } }] });
    expect([unsure.status, unsure.json.type]).to.deep.equal([503, '/problems/storage-failed']);
    expect(unsure.json.detail).to.include('restart the service');
    disk.setFailing(false);
    const later = await ask('PUT', '/v1/data/a/two', { n: 3 });
    expect([later.status, later.json.type], 'the sync is not tried again').to.deep.equal([
      503,
      '/problems/storage-failed',
    ]);
    expect((await ask('GET', '/v1/data/a/one')).json.data).to.deep.equal({ n: 1 });
    const long = await ask('GET', '/v1/data/a?limit=none&order=-n');
    expect(JSON.stringify(long.json), 'a long read').not.to.include('"n":2');
    expect((await ask('GET', '/readyz')).status).to.equal(503);

    await served.stop('SIGKILL');
    served = await ServedProcess.start(data, 0, [], disk.environment);
    const again = await ask('POST', '/v1/commits', { id: 'unsure', writes: [{ put: 'a/one', data: { n: 2 } }] });
    expect(again.status, 'sent again with the same id').to.equal(200);
    expect((await ask('GET', '/v1/data/a/one')).json.data).to.deep.equal({ n: 2 });
    await served.stop('SIGTERM');
    remove();
  });
});
