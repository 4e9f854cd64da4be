// Keeps a store of the present format as a sample, so that later versions can be tried on it:
// `node scripts/make-store-sample.mjs`. To be run, and its result committed, whenever there is a new store format.
import { execFileSync } from 'node:child_process';
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import { pathToFileURL } from 'node:url';
import { gzipSync } from 'node:zlib';

const root = process.env.UPROAR_CHECKOUT ?? new URL('..', import.meta.url).pathname;
const samples = new URL('../packages/service/test/stores/', import.meta.url).pathname;
const { startService } = await import(pathToFileURL(join(root, 'packages/service/dist/index.js')));
const KEY = 'test-key-0123456789';

const directory = mkdtempSync(join(tmpdir(), 'uproar-sample-'));
const service = await startService({ directory, host: '127.0.0.1', port: 0, adminKey: KEY, accounts: 'open' });
const ask = async (method, path, body, type = 'application/json', as = 'json') => {
  const response = await fetch(service.address + path, {
    method,
    headers: { authorization: `Bearer ${KEY}`, ...(body === undefined ? {} : { 'content-type': type }) },
    body: typeof body === 'string' || body === undefined ? body : JSON.stringify(body),
  });
  const text = await response.text();
  if (!response.ok && response.status !== 404) throw new Error(`${method} ${path}: ${response.status} ${text}`);
  if (as === 'text') return response.ok ? text : undefined;
  return { status: response.status, json: text === '' ? undefined : JSON.parse(text) };
};

for (let n = 0; n < 40; n += 10) {
  const writes = Array.from({ length: 10 }, (_, i) => ({
    put: `balloons/bl-${n + i}`,
    data: {
      name: `Balloon ${n + i}`,
      status: (n + i) % 3 ? 'landed' : 'aloft',
      altitude: (n + i) * 10,
      crewId: `c-${i}`,
    },
  }));
  await ask('POST', '/v1/commits', { id: `commit-${n}`, writes });
}
for (let n = 0; n < 10; n++) await ask('PUT', `/v1/data/crews/c-${n}`, { name: `Crew ${n}`, phone: `555-010${n}` });
await ask(
  'PATCH',
  '/v1/data/balloons/bl-3',
  { altitude: 333.25, note: 'ümlaut – 気球' },
  'application/merge-patch+json',
);
await ask('DELETE', '/v1/data/balloons/bl-7');
await ask('PUT', '/v1/data/crews/c-night?expires=2999-01-01T00:00:00Z', { name: 'Night crew' });
await ask('POST', '/v1/indexes', { collection: 'balloons', fields: 'status,-altitude' });
await ask('PUT', '/v1/policy', {
  text: 'collections:\n  balloons:\n    read: "true"\n    update: "crewId = claim(\'crew\')"\n  crews:\n    read: "true"\n    conceal: [phone]\n',
});
const made = await ask('POST', '/v1/keys', { name: 'gate', scope: 'read' });
await ask('POST', '/v1/accounts', { name: 'ada', password: 'a-password-of-ada', claims: { crew: 'c-1' } });
// What only newer versions know is left out by older ones.
await ask('PUT', '/v1/schemas/crews', { mode: 'enforce', schema: { type: 'object', required: ['name'] } });
await ask('PUT', '/v1/data/files/picture', { name: 'picture.txt', type: 'text/plain' });
await ask('PUT', '/v1/files/picture/content', 'a picture, in words', 'text/plain');

const { json: policy } = await ask('GET', '/v1/policy');
const documents = {};
for (const collection of ['balloons', 'crews']) {
  ({
    json: { documents: documents[collection] },
  } = await ask('GET', `/v1/data/${collection}?limit=1000`));
}
const content = await ask('GET', '/v1/files/picture/content', undefined, undefined, 'text');
const { json: journal } = await ask('GET', '/v1/journal?after=0&limit=1000');
await service.close();
const format = Number(execFileSync(process.execPath, ['--input-type=module', '-e', formatProgram()], { cwd: root }));
const folder = join(samples, `format-${format}`);
rmSync(folder, { recursive: true, force: true });
mkdirSync(folder, { recursive: true });
execFileSync('tar', ['-czf', join(folder, 'store.tar.gz'), '-C', directory, '.']);
const expected = { key: made.json.key, policy: policy.text, documents, events: journal.events, content };
writeFileSync(join(folder, 'expected.json.gz'), gzipSync(JSON.stringify(expected), { level: 9 }));
rmSync(directory, { recursive: true });
console.log(`kept a store of format ${format}`);

function formatProgram() {
  const file = JSON.stringify(join(directory, 'uproar.sqlite'));
  return `import Database from 'better-sqlite3'; console.log(new Database(${file}).pragma('user_version', { simple: true }))`;
}
