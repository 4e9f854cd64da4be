import { execFileSync, spawn } from 'node:child_process';
import { mkdirSync, rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect } from 'chai';
import { KEY, TestService } from '../../../test/service.js';

const ROOT = fileURLToPath(new URL('../../../', import.meta.url));
const bin = (name: string) => join(ROOT, 'node_modules/.bin', name);

/** What the page on HTTP describes, through a client that fetches with the paths as types. */
const BY_PATHS = `
import createClient from 'openapi-fetch';
import type { components, paths } from './paths.js';
const [baseUrl, key] = process.argv.slice(2);
const store = createClient<paths>({ baseUrl: baseUrl!, headers: { authorization: \`Bearer \${key}\` } });
const path = { collection: 'balloons', id: 'bl-1' };
const put = await store.PUT('/v1/data/{collection}/{id}', { params: { path }, body: { name: 'Amber', altitude: 3 } });
const tag = put.response.headers.get('etag')!;
const header = { 'If-Match': '"99"' };
const stale = await store.PUT('/v1/data/{collection}/{id}', { params: { path, header }, body: { name: 'Late' } });
const conflict: components['schemas']['Problem'] | undefined = stale.error;
const merged = await store.PATCH('/v1/data/{collection}/{id}', {
  params: { path, header: { 'If-Match': tag } },
  headers: { 'content-type': 'application/merge-patch+json' },
  body: { altitude: 4 },
});
const created = await store.POST('/v1/data/{collection}', {
  params: { path: { collection: 'balloons' }, header: { 'Idempotency-Key': 'once' } },
  body: { name: 'Heron', altitude: 500, crew: { id: 'c-1', sizes: [1, 2] } },
});
const listed = await store.GET('/v1/data/{collection}', {
  params: { path: { collection: 'balloons' }, query: { where: 'altitude > 1', order: '-altitude', limit: '10' } },
});
const names: string[] = (listed.data?.documents ?? []).map(({ data }) => String(data.name));
const lines = await store.GET('/v1/data/{collection}', {
  params: { path: { collection: 'balloons' } },
  headers: { accept: 'application/x-ndjson' },
  parseAs: 'text',
});
const queried = await store.POST('/v1/query', { body: { from: 'balloons', where: 'altitude > 100' } });
const explained = await store.POST('/v1/explain', { body: { from: 'balloons', order: 'name' } });
const commit = await store.POST('/v1/commits', {
  body: {
    id: 'commit-1',
    writes: [
      { put: 'crews/c-1', data: { name: 'Lookouts' } },
      { adjust: 'balloons/bl-1', by: { '/altitude': { add: 1 } } },
      { create: 'notices', data: { text: 'Fog' }, ttl: 60 },
    ],
  },
});
const read = await store.GET('/v1/data/{collection}/{id}', { params: { path, query: { at: merged.data?.version ?? 0 } } });
const journal = await store.GET('/v1/journal', { params: { query: { after: 0, collection: 'balloons' } } });
const index = await store.POST('/v1/indexes', { body: { collection: 'balloons', fields: '-altitude' } });
const collections = await store.GET('/v1/collections', {});
const ticket = await store.POST('/v1/tickets', {});
const gone = await store.DELETE('/v1/data/{collection}/{id}', { params: { path } });
const none = await store.GET('/v1/data/{collection}/{id}', { params: { path } });
console.log(JSON.stringify([
  put.data?.version, conflict?.status, merged.data?.data.altitude, created.data?.data.crew, names,
  lines.data?.split('\\n').length, queried.data?.documents.length, typeof explained.data, commit.data?.documents.length,
  read.data?.data.altitude, journal.data?.events.map(({ type }) => type.split('.').at(-1)), typeof index.data?.id,
  collections.data?.documents.length, typeof ticket.data?.ticket, gone.response.status, none.error?.type,
]));
`;

/** The same through a client with a function for each operation. */
const BY_NAMES = `
import { client } from './sdk/client.gen.js';
import {
  commit, createDocument, createIndex, createTicket, deleteDocument, explainQuery, getDocument, listCollections, patchDocument,
  putDocument, query, queryCollection, readJournal,
} from './sdk/sdk.gen.js';
import type { Problem } from './sdk/types.gen.js';
const [baseUrl, key] = process.argv.slice(2);
client.setConfig({ baseUrl: baseUrl!, headers: { authorization: \`Bearer \${key}\` } });
const path = { collection: 'balloons', id: 'bl-1' };
const put = await putDocument({ path, body: { name: 'Amber', altitude: 3 } });
const tag = put.response!.headers.get('etag')!;
const stale = await putDocument({ path, headers: { 'If-Match': '"99"' }, body: { name: 'Late' } });
const conflict: Problem | undefined = stale.error;
const merged = await patchDocument({ path, headers: { 'If-Match': tag }, body: { altitude: 4 } });
const created = await createDocument({
  path: { collection: 'balloons' },
  headers: { 'Idempotency-Key': 'once' },
  body: { name: 'Heron', altitude: 500, crew: { id: 'c-1', sizes: [1, 2] } },
});
const listed = await queryCollection({
  path: { collection: 'balloons' },
  query: { where: 'altitude > 1', order: '-altitude', limit: '10' },
});
const names: string[] = (listed.data?.documents ?? []).map(({ data }) => String(data.name));
const lines = await queryCollection({ path: { collection: 'balloons' }, headers: { accept: 'application/x-ndjson' }, parseAs: 'text' });
const queried = await query({ body: { from: 'balloons', where: 'altitude > 100' } });
const explained = await explainQuery({ body: { from: 'balloons', order: 'name' } });
const committed = await commit({
  body: {
    id: 'commit-1',
    writes: [
      { put: 'crews/c-1', data: { name: 'Lookouts' } },
      { adjust: 'balloons/bl-1', by: { '/altitude': { add: 1 } } },
      { create: 'notices', data: { text: 'Fog' }, ttl: 60 },
    ],
  },
});
const read = await getDocument({ path, query: { at: merged.data?.version ?? 0 } });
const journal = await readJournal({ query: { after: 0, collection: 'balloons' } });
const index = await createIndex({ body: { collection: 'balloons', fields: '-altitude' } });
const collections = await listCollections();
const ticket = await createTicket();
const gone = await deleteDocument({ path });
const none = await getDocument({ path });
console.log(JSON.stringify([
  put.data?.version, conflict?.status, merged.data?.data.altitude, created.data?.data.crew, names,
  String(lines.data).split('\\n').length, queried.data?.documents.length, typeof explained.data,
  committed.data?.documents.length, read.data?.data.altitude,
  journal.data?.events.map(({ type }) => type.split('.').at(-1)), typeof index.data?.id,
  collections.data?.documents.length, typeof ticket.data?.ticket, gone.response?.status, none.error?.type,
]));
`;

const EXPECTED = [
  1,
  412,
  4,
  { id: 'c-1', sizes: [1, 2] },
  ['Heron', 'Amber'],
  3,
  1,
  'object',
  3,
  4,
  ['created', 'updated', 'created', 'updated'],
  'number',
  3,
  'string',
  204,
  '/problems/no-such-document',
];

describe('clients that generators make from the descriptions', function () {
  this.timeout(120_000);
  // Beside the packages that they import.
  const folder = join(ROOT, 'packages/service/test/generated');
  let service: TestService;
  beforeEach(async () => {
    service = await TestService.start();
    mkdirSync(folder, { recursive: true });
    // Nobody needs a key to read the descriptions.
    const text = await (await fetch(`${service.url}/openapi.json`)).text();
    writeFileSync(join(folder, 'openapi.json'), text);
    expect((await fetch(`${service.url}/asyncapi.json`)).status).to.equal(200);
  });
  afterEach(async () => {
    rmSync(folder, { recursive: true, force: true });
    await service.stop();
  });

  const compileAndRun = async (name: string, program: string) => {
    writeFileSync(join(folder, name), program);
    const options =
      '--noEmit --strict --noUncheckedIndexedAccess --module esnext --moduleResolution bundler --target es2022 --lib es2024,dom';
    try {
      execFileSync(bin('tsc'), [...options.split(' '), '--types', 'node', join(folder, name)], {
        cwd: ROOT,
        stdio: 'pipe',
      });
    } catch (error) {
      expect.fail(String((error as { stdout: Buffer }).stdout));
    }
    const said = await new Promise<string>((resolve) => {
      const child = spawn(process.execPath, ['--import', 'tsx', join(folder, name), service.url, KEY], { cwd: ROOT });
      let out = '';
      child.stdout.on('data', (piece) => (out += String(piece)));
      child.stderr.on('data', (piece) => (out += String(piece)));
      child.on('close', () => resolve(out));
    });
    return JSON.parse(said.trim().split('\n').at(-1)!) as unknown;
  };

  it('with paths as types do everything without casts, in strict mode', async () => {
    execFileSync(bin('openapi-typescript'), ['openapi.json', '-o', 'paths.d.ts'], { cwd: folder, stdio: 'pipe' });
    expect(await compileAndRun('by-paths.ts', BY_PATHS)).to.deep.equal(EXPECTED);
  });

  it('with a function for each operation do so, too', async () => {
    const args = ['-i', 'openapi.json', '-o', 'sdk', '--silent'];
    execFileSync(bin('openapi-ts'), args, { cwd: folder, stdio: 'pipe' });
    expect(await compileAndRun('by-names.ts', BY_NAMES)).to.deep.equal(EXPECTED);
  });
});
