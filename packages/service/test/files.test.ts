import { expect } from 'chai';
import { createHash, randomBytes } from 'node:crypto';
import { existsSync, mkdirSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import { request as httpRequest } from 'node:http';
import { connect as connectSocket } from 'node:net';
import { dirname, join } from 'node:path';
import { Readable } from 'node:stream';
import { checkStore, databaseFile, openStore, restoreBackup, startService } from '@uproar/service';
import { connect, FileStorage, isProblem, type RefusedUpload, type Store } from '@uproar/client';
import { StreamReader } from '../../../test/event-stream.js';
import { HostileLink } from '../../../test/hostile-link.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const hashOf = (bytes: Uint8Array) => createHash('sha256').update(bytes).digest('hex');

/** All files below a folder. */
function filesBelow(folder: string): string[] {
  if (!existsSync(folder)) return [];
  return readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile())
    .map((entry) => entry.name);
}

describe('files', () => {
  let service: TestService;
  beforeEach(
    async () =>
      (service = await TestService.start({
        tokens: TOKEN_SETTINGS,
        files: { idleMs: 1500, sizeBytes: 5_000_000, unusedMs: 0 },
      })),
  );
  afterEach(() => service.stop());
  const send = (path: string, bytes: Uint8Array, headers: Record<string, string> = {}, method = 'PUT') =>
    service.request(method, path, bytes, { 'content-type': 'image/png', ...headers });
  const read = async (path: string, headers: Record<string, string> = {}, key: string | null = KEY) => {
    const response = await fetch(service.url + path, {
      headers: { ...(key === null ? {} : { authorization: `Bearer ${key}` }), ...headers },
    });
    return { status: response.status, headers: response.headers, bytes: Buffer.from(await response.arrayBuffer()) };
  };
  const kept = () => filesBelow(join(service.directory, 'files'));

  it('are documents with content; equal content is stored once', async () => {
    const bytes = randomBytes(200_000);
    const watch = await StreamReader.open(`${service.url}/v1/data/files`);
    const first = await send(
      '/v1/files/pic/content?name=Amber%20Heron.png&data=%7B%22balloonId%22%3A%22bl-1%22%7D',
      bytes,
    );
    expect(first.status, first.text).to.equal(201);
    expect(first.json.data).to.deep.equal({
      name: 'Amber Heron.png',
      balloonId: 'bl-1',
      type: 'image/png',
      size: 200_000,
      sha256: hashOf(bytes),
    });
    const second = await send('/v1/files?name=b.png', bytes, {}, 'POST');
    expect(second.status).to.equal(201);
    expect(kept()).to.deep.equal([hashOf(bytes)]);
    const found = await service.request('GET', `/v1/data/files?where=${encodeURIComponent("balloonId = 'bl-1'")}`);
    expect(found.json.documents).to.have.length(1);
    await until('the watch shows both', () => Object.keys(watch.state).length === 2);
    watch.close();
    const got = await read('/v1/files/pic/content');
    expect(got.bytes.equals(bytes)).to.equal(true);
    expect(got.headers.get('content-type')).to.equal('image/png');
    expect(got.headers.get('content-disposition')).to.equal('inline; filename="Amber Heron.png"');
    expect(got.headers.get('etag')).to.equal(`"${hashOf(bytes)}"`);
    // Other content under the same id; the fields of one's own stay.
    const other = randomBytes(10);
    const again = await send('/v1/files/pic/content', other);
    expect(again.status).to.equal(200);
    expect(again.json.data).to.deep.include({
      name: 'Amber Heron.png',
      balloonId: 'bl-1',
      size: 10,
      sha256: hashOf(other),
    });
    // Only instead of the content that was read, known by its ETag, or by the version of the description.
    const tag = `"${hashOf(other)}"`;
    expect((await send('/v1/files/pic/content', other, { 'if-match': '"1"' })).status).to.equal(412);
    expect((await send('/v1/files/pic/content', bytes, { 'if-none-match': '*' })).status).to.equal(412);
    expect((await send('/v1/files/pic/content', bytes, { 'if-match': `"x", ${tag}` })).status).to.equal(200);
    expect((await send('/v1/files/pic/content', other, { 'if-match': tag })).status).to.equal(412);
    const { version } = (await service.request('GET', '/v1/data/files/pic')).json;
    expect((await send('/v1/files/pic/content', other, { 'if-match': `"${version}"` })).status).to.equal(200);
    // What no document has any more is swept.
    await service.request('DELETE', `/v1/data/files/${second.json.id}`);
    expect(await service.service.store.contents.sweep(Date.now())).to.equal(1);
    expect(kept()).to.deep.equal([hashOf(other)]);
    expect((await read(`/v1/files/${second.json.id}/content`)).status).to.equal(404);
  });

  it('leave no content behind whose record a process has removed before it ended', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    const { sha256 } = await store.contents.receive(Readable.from([Buffer.from('x')]), 1);
    await store.contents.settle(sha256, false);
    const stray = store.contents.path('f'.repeat(64));
    mkdirSync(dirname(stray), { recursive: true });
    writeFileSync(stray, 'y');
    expect(await store.contents.removeOrphans()).to.equal(1);
    expect([existsSync(stray), existsSync(store.contents.path(sha256))]).to.deep.equal([false, true]);
    store.close();
    remove();
  });

  it('keep a content that no document has for a day, not longer', async () => {
    const { path, remove } = temporaryDirectory();
    const store = openStore(path);
    try {
      const { sha256 } = await store.contents.receive(Readable.from([Buffer.from('x')]), 1);
      await store.contents.settle(sha256, false);
      const DAY_MS = 86_400_000;
      expect(await store.contents.sweep(Date.now() + DAY_MS - 60_000)).to.equal(0);
      expect(existsSync(store.contents.path(sha256))).to.equal(true);
      expect(await store.contents.sweep(Date.now() + DAY_MS + 60_000)).to.equal(1);
    } finally {
      store.close();
      remove();
    }
  });

  it('can be read in parts, by condition, and without a body', async () => {
    const bytes = randomBytes(1000);
    await send('/v1/files/pic/content', bytes);
    const tag = `"${hashOf(bytes)}"`;
    const part = async (range: string, headers = {}) => {
      const { status, headers: answered, bytes: got } = await read('/v1/files/pic/content', { range, ...headers });
      return [status, answered.get('content-range'), got.length, got.equals(bytes.subarray(...spanOf(answered)))];
    };
    const spanOf = (headers: Headers): [number, number] => {
      const [, from, to] = /bytes (\d+)-(\d+)/.exec(headers.get('content-range') ?? '') ?? [];
      return from === undefined ? [0, 1000] : [Number(from), Number(to) + 1];
    };
    expect(await part('bytes=0-99')).to.deep.equal([206, 'bytes 0-99/1000', 100, true]);
    expect(await part('bytes=900-')).to.deep.equal([206, 'bytes 900-999/1000', 100, true]);
    expect(await part('bytes=-10')).to.deep.equal([206, 'bytes 990-999/1000', 10, true]);
    expect(await part('bytes=10-20', { 'if-range': tag })).to.deep.equal([206, 'bytes 10-20/1000', 11, true]);
    expect(await part('bytes=10-20', { 'if-range': '"other"' })).to.deep.equal([200, null, 1000, true]);
    expect(await part('bytes=0-1,5-6')).to.deep.equal([200, null, 1000, true]);
    expect(await part('lines=1-2')).to.deep.equal([200, null, 1000, true]);
    expect(await part(`bytes=${Array.from({ length: 1000 }, (_, n) => `${n}-${n}`).join(',')}`)).to.deep.equal([
      200,
      null,
      1000,
      true,
    ]);
    const beyond = await read('/v1/files/pic/content', { range: 'bytes=2000-' });
    expect([beyond.status, beyond.headers.get('content-range')]).to.deep.equal([416, 'bytes */1000']);
    expect((await read('/v1/files/pic/content', { 'if-none-match': tag })).status).to.equal(304);
    const head = await fetch(`${service.url}/v1/files/pic/content`, {
      method: 'HEAD',
      headers: { authorization: `Bearer ${KEY}` },
    });
    expect([head.status, head.headers.get('content-length'), head.headers.get('etag')]).to.deep.equal([
      200,
      '1000',
      tag,
    ]);
    // Many at once.
    const parts = await Promise.all(
      Array.from({ length: 1000 }, (_, n) => read('/v1/files/pic/content', { range: `bytes=${n}-${n}` })),
    );
    expect(Buffer.concat(parts.map(({ bytes: one }) => one)).equals(bytes)).to.equal(true);
    await send('/v1/files/empty/content', new Uint8Array());
    expect((await read('/v1/files/empty/content')).bytes).to.have.length(0);
  });

  it('never run as scripts of the store', async () => {
    const page = Buffer.from('<script>alert(1)</script>');
    for (const type of [
      'text/html',
      'image/svg+xml',
      'application/pdf',
      'application/xhtml+xml',
      'text/xml',
      'text/javascript',
    ]) {
      await send('/v1/files/page/content?name=page.png', page, { 'content-type': type });
      const { headers } = await read('/v1/files/page/content');
      expect(headers.get('content-disposition'), type).to.match(/^attachment/);
      expect(headers.get('x-content-type-options')).to.equal('nosniff');
      expect(headers.get('content-security-policy')).to.equal("default-src 'none'; sandbox");
    }
    // HTML that calls itself an image stays an image.
    await send('/v1/files/page/content', page, { 'content-type': 'image/png' });
    expect((await read('/v1/files/page/content')).headers.get('content-type')).to.equal('image/png');
    expect((await read('/v1/files/page/content?download')).headers.get('content-disposition')).to.match(/^attachment/);
    // A description cannot change that from behind.
    await service.request('PATCH', '/v1/data/files/page', {
      type: 'text/html\r\nx-evil: 1',
      name: 'a"\r\nx: y/../ü.png',
    });
    const odd = await read('/v1/files/page/content');
    expect(odd.headers.get('content-type')).to.equal('application/octet-stream');
    expect(odd.headers.has('x-evil')).to.equal(false);
    expect(odd.headers.get('content-disposition')).to.match(/^attachment/);
  });

  it('refuse invalid uploads, and keep nothing of them', async () => {
    const refused = async (path: string, headers: Record<string, string>, bytes: Uint8Array = Buffer.from('x')) => {
      const { status, json } = await send(path, bytes, headers);
      return [status, String(json?.type).replace('/problems/', '')];
    };
    expect(await refused('/v1/files/a/content?name=..%2F..%2Fetc', {})).to.deep.equal([400, 'bad-request']);
    expect(await refused('/v1/files/..%2f..%2fx/content', {})).to.deep.equal([400, 'bad-id']);
    expect(await refused('/v1/files/a/content?data=%5B1%5D', {})).to.deep.equal([400, 'bad-request']);
    expect(await refused('/v1/files/a/content?data=%7B', {})).to.deep.equal([400, 'bad-json']);
    expect(await refused('/v1/files/a/content', { 'content-type': 'no type' })).to.deep.equal([
      415,
      'unsupported-type',
    ]);
    const unmet = [412, 'precondition-failed'];
    expect(await refused('/v1/files/a/content', { 'if-match': '"77"' })).to.deep.equal(unmet);
    expect(await refused('/v1/files/a/content', { 'if-match': `"${'0'.repeat(64)}"` })).to.deep.equal(unmet);
    expect(await refused('/v1/files/a/content', { 'if-match': 'x' })).to.deep.equal([400, 'bad-request']);
    expect(await refused('/v1/files/a/content', {}, Buffer.alloc(5_000_001))).to.deep.equal([413, 'too-large']);
    expect(kept()).to.deep.equal([]);
    expect((await service.request('GET', '/v1/data/files/a')).status).to.equal(404);
  });

  it('break an upload off that announces too much, sends too little, or stops sending', async () => {
    const begin = (length: string, sent: string) =>
      new Promise<string>((resolve) => {
        const { port } = new URL(service.url);
        const socket = connectSocket(Number(port), '127.0.0.1');
        let heard = '';
        socket
          .on('data', (text) => (heard += String(text)))
          .on('error', () => undefined)
          .on('close', () => resolve(heard));
        const head = ['PUT /v1/files/x/content HTTP/1.1', 'Host: a', `Authorization: Bearer ${KEY}`];
        socket.write([...head, 'Content-Type: image/png', length, '', sent].join('\r\n'));
        setTimeout(() => socket.destroy(), 20_000);
      });
    expect(await begin('Content-Length: 10000000000', 'x')).to.match(/^HTTP\/1.1 413 /);
    expect(await begin('Content-Length: 1000', 'half')).to.match(/No data arrived for 1.5 s/);
    expect(await begin('Transfer-Encoding: chunked', '5\r\nhello\r\n')).to.match(/No data arrived for 1.5 s/);
    expect(
      await begin('Transfer-Encoding: chunked', `${(5_000_001).toString(16)}\r\n${'x'.repeat(5_000_001)}\r\n`),
    ).to.match(/^HTTP\/1.1 413 /);
    const killed = httpRequest(`${service.url}/v1/files/y/content`, {
      method: 'PUT',
      headers: { authorization: `Bearer ${KEY}`, 'content-type': 'image/png' },
    });
    killed.on('error', () => undefined);
    killed.write(Buffer.alloc(100_000));
    await until('it has begun', () => kept().length > 0);
    killed.destroy();
    await until('nothing is left', () => kept().length === 0);
    const { json } = await service.request('GET', '/v1/data/files');
    expect(json.documents).to.deep.equal([]);
  });

  it('remove incomplete uploads when the process ends', async () => {
    const killed = httpRequest(`${service.url}/v1/files/y/content`, {
      method: 'PUT',
      headers: { authorization: `Bearer ${KEY}`, 'content-type': 'image/png' },
    });
    killed.on('error', () => undefined);
    killed.write(Buffer.alloc(100_000));
    await until('it has begun', () => kept().length > 0);
    await service.restart();
    expect(kept()).to.deep.equal([]);
  });

  it('are read and written under the policy, and their contents are not accessible otherwise', async () => {
    const secret = randomBytes(1000);
    await send('/v1/files/secret/content?data=%7B%22owner%22%3A%22dora%22%7D', secret);
    await service.setPolicy({
      collections: {
        files: { read: "owner = claim('sub')", create: "owner = claim('sub')", update: "owner = claim('sub')" },
      },
    });
    const token = await makeToken({ sub: 'ada' });
    const ask = service.as(token);
    expect((await read('/v1/files/secret/content', {}, token)).status).to.equal(404);
    expect((await ask('POST', '/v1/files/secret/link', {})).status).to.equal(404);
    // A hash alone does not give access to a content.
    const stolen = await ask('PUT', '/v1/data/files/mine', {
      owner: 'ada',
      sha256: hashOf(secret),
      size: 1000,
      type: 'image/png',
    });
    expect(stolen.status).to.equal(422);
    expect(stolen.json.pointer).to.equal('/sha256');
    const mine = await ask(
      'PUT',
      '/v1/files/mine/content?data=%7B%22owner%22%3A%22ada%22%7D',
      Buffer.from('hi') as never,
      { 'content-type': 'text/plain' },
    );
    expect(mine.status, mine.text).to.equal(201);
    expect((await ask('PATCH', '/v1/data/files/mine', { sha256: hashOf(secret) })).status).to.equal(422);
    expect((await ask('PATCH', '/v1/data/files/mine', { sha256: null })).status).to.equal(422);
    expect((await ask('PATCH', '/v1/data/files/mine', { caption: 'mine' })).status).to.equal(200);
    const before = kept().length;
    const foreign = await ask(
      'PUT',
      '/v1/files/theirs/content?data=%7B%22owner%22%3A%22bo%22%7D',
      randomBytes(50) as never,
      { 'content-type': 'image/png' },
    );
    expect(foreign.status).to.equal(403);
    expect(kept().length, 'no refused content is kept').to.equal(before);
    // Several send the same content at once, and some are refused. The accepted ones keep it.
    const shared = randomBytes(300_000);
    const senders = await Promise.all(
      Array.from({ length: 12 }, (_, n) =>
        ask(
          'PUT',
          `/v1/files/shared-${n}/content?data=%7B%22owner%22%3A%22${n % 2 ? 'ada' : 'bo'}%22%7D`,
          shared as never,
          { 'content-type': 'image/png' },
        ),
      ),
    );
    expect(senders.map(({ status }) => status)).to.deep.equal(
      Array.from({ length: 12 }, (_, n) => (n % 2 ? 201 : 403)),
    );
    expect((await read('/v1/files/shared-1/content', {}, token)).bytes.equals(shared)).to.equal(true);
    // A key may put a description back whose content is still there.
    await service.request('DELETE', '/v1/data/files/secret');
    const back = await service.request('PUT', '/v1/data/files/secret', {
      owner: 'dora',
      sha256: hashOf(secret),
      size: 1000,
    });
    expect(back.status).to.equal(201);
    expect((await read('/v1/files/secret/content')).bytes.equals(secret)).to.equal(true);
  });

  it('can be linked to for a while', async () => {
    const bytes = randomBytes(100);
    await send('/v1/files/pic/content', bytes);
    const { json, status } = await service.request('POST', '/v1/files/pic/link', { seconds: 2 });
    expect(status).to.equal(201);
    const linked = await read(json.url as string, {}, null);
    expect(linked.bytes.equals(bytes)).to.equal(true);
    expect(linked.headers.get('cross-origin-resource-policy')).to.equal('cross-origin');
    await send('/v1/files/other/content', randomBytes(5));
    const forged = (json.url as string).replace('/pic/', '/other/');
    expect((await read(forged, {}, null)).status).to.equal(401);
    expect((await read((json.url as string).replace(/expires=(\d)/, 'expires=9$1'), {}, null)).status).to.equal(401);
    expect((await read('/v1/files/pic/content?signature=', {}, null)).status).to.equal(401);
    await until('it has expired', async () => (await read(json.url as string, {}, null)).status === 401);
    expect((await service.request('POST', '/v1/files/none/link', {})).status).to.equal(404);
    expect((await service.request('POST', '/v1/files/pic/link', { seconds: 10_000_000 })).status).to.equal(400);
  });

  it('are part of a backup', async () => {
    const bytes = randomBytes(2_500_000);
    await send('/v1/files/pic/content', bytes);
    const { json } = await service.request('POST', '/v1/backups');
    await until(
      'it is ready',
      async () => (await service.request('GET', `/v1/backups/${json.id}`)).json.state === 'ready',
    );
    const backup = await read(`/v1/backups/${json.id}/content`);
    const { path, remove } = temporaryDirectory();
    writeFileSync(join(path, 'backup.sqlite'), backup.bytes);
    expect(checkStore(join(path, 'backup.sqlite')).results.flatMap(({ faults }) => faults)).to.deep.equal([]);
    const restored = join(path, 'data');
    await restoreBackup(join(path, 'backup.sqlite'), restored);
    const other = await startService({ directory: restored, host: '127.0.0.1', port: 0, adminKey: KEY });
    try {
      const answer = await fetch(`${other.address}/v1/files/pic/content`, {
        headers: { authorization: `Bearer ${KEY}` },
      });
      expect(Buffer.from(await answer.arrayBuffer()).equals(bytes)).to.equal(true);
      expect(filesBelow(join(restored, 'files'))).to.deep.equal([hashOf(bytes)]);
    } finally {
      await other.close();
      expect(checkStore(databaseFile(restored)).sound).to.equal(true);
      rmSync(join(restored, 'files'), { recursive: true });
      const { results } = checkStore(databaseFile(restored));
      expect(results.find(({ what }) => what === 'the files')?.faults).to.deep.equal([
        `The content ${hashOf(bytes)} is missing.`,
      ]);
      remove();
    }
  });
});

describe('files of the client', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('are uploaded with progress, linked to, and wait for a connection', async () => {
    const link = await HostileLink.start(service.url);
    const store = connect(link.url, { token: KEY, backoffMs: () => 30 });
    try {
      const watch = store.collection('files').watch();
      await until('it is live', () => watch.current.state === 'live');
      const bytes = randomBytes(300_000);
      const progress: number[] = [];
      const uploading = store.files.upload(new Blob([bytes], { type: 'image/png' }), {
        name: 'a.png',
        data: { balloonId: 'bl-1' },
        onProgress: (sent, total) => progress.push(sent / total),
      });
      expect(uploading.id).to.match(/^[0-9a-f-]{36}$/);
      expect((await uploading).data).to.deep.include({ name: 'a.png', balloonId: 'bl-1', size: 300_000 });
      expect(progress.at(-1)).to.equal(1);
      await until('the watch shows it', () => watch.current.byId.has(uploading.id));
      const answer = await fetch((await store.files.link(uploading.id)).replace(link.url, service.url));
      expect(Buffer.from(await answer.arrayBuffer()).equals(bytes)).to.equal(true);

      link.down = true;
      link.cutAll();
      await until('it is offline', () => store.state.name === 'offline');
      const waiting = store.files.upload(new File(['later'], 'later.txt', { type: 'text/plain' }), { id: 'later' });
      let arrived = false;
      void waiting.then(() => (arrived = true));
      await new Promise((resolve) => setTimeout(resolve, 300));
      expect(arrived).to.equal(false);
      link.down = false;
      expect((await waiting).data).to.deep.include({ name: 'later.txt', type: 'text/plain', size: 5 });

      const refused = await store.files
        .upload(new Blob(['x'], { type: 'no/ty pe' }), { id: 'x' })
        .catch((error: unknown) => error);
      expect(isProblem(refused, 'unsupported-type')).to.equal(true);
      const abort = new AbortController();
      const broken = store.files
        .upload(new Blob([randomBytes(10)]), { signal: abort.signal })
        .catch((error: unknown) => error);
      abort.abort();
      expect(await broken).to.be.instanceOf(Error);
    } finally {
      store.close();
      await link.stop();
    }
  });

  it('are kept where the client has a storage, and sent by the next one that opens it, once', async () => {
    const folder = temporaryDirectory();
    const link = await HostileLink.start(service.url);
    const refusals: RefusedUpload[] = [];
    const open = () =>
      connect(link.url, {
        token: KEY,
        backoffMs: () => 30,
        storage: new FileStorage(folder.path),
        onUploadRefused: (refused) => refusals.push(refused),
      });
    link.down = true;
    const first = open();
    const bytes = randomBytes(200_000);
    const abort = new AbortController();
    const uploads = [
      first.files.upload(new File([bytes], 'a.png', { type: 'image/png' }), {
        id: 'kept',
        data: { balloonId: 'bl-2' },
      }),
      first.files.upload(new Blob(['x'], { type: 'no/ty pe' }), { id: 'wrong' }),
      first.files.upload(new Blob(['first']), { id: 'twice' }),
      first.files.upload(new Blob(['second']), { id: 'twice' }),
      first.files.upload(new Blob(['y']), { id: 'given-up', signal: abort.signal }),
    ].map((upload) => upload.catch((error: unknown) => error));
    const idsOf = async (store: Store) => (await store.files.pending()).map(({ id }) => id);
    const kept = () => readdirSync(join(folder.path, 'uploads')).length;
    await until('they are kept', () => kept() === 10);
    abort.abort();
    await until('one is given up', () => kept() === 8);
    first.close();
    expect((await Promise.all(uploads)).every((outcome) => outcome instanceof Error)).to.equal(true);

    // One that a crash has cut off is not there.
    writeFileSync(join(folder.path, 'uploads', 'half'), 'x');
    const second = open();
    try {
      expect(await idsOf(second)).to.deep.equal(['kept', 'wrong', 'twice', 'twice']);
      link.down = false;
      await until('all are settled', async () => (await second.files.pending()).length === 0);
      expect(refusals.map(({ id, problem }) => [id, problem.status])).to.deep.equal([['wrong', 415]]);
      expect((await second.collection('files').get('kept'))?.data).to.deep.include({
        name: 'a.png',
        type: 'image/png',
        balloonId: 'bl-2',
        sha256: hashOf(bytes),
      });
      expect((await second.collection('files').get('twice'))?.data.sha256).to.equal(hashOf(Buffer.from('second')));
      expect(kept()).to.equal(0);
    } finally {
      second.close();
      await link.stop();
      folder.remove();
    }
  });
});
