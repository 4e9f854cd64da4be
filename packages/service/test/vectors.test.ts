import { execFileSync } from 'node:child_process';
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { expect } from 'chai';
import { createParser } from 'eventsource-parser';
import jsonPatch from 'fast-json-patch';
import { StreamReader } from '../../../test/event-stream.js';
import { temporaryDirectory, TestService, until } from '../../../test/service.js';

const VECTORS = fileURLToPath(new URL('../../../docs/vectors/', import.meta.url));
const SCRIPT = fileURLToPath(new URL('../../../scripts/make-vectors.mjs', import.meta.url));

type State = Record<string, unknown>;

function read<Case>(name: string): Case[] {
  return (JSON.parse(readFileSync(join(VECTORS, `${name}.json`), 'utf8')) as { cases: Case[] }).cases;
}

describe('the test vectors for clients', () => {
  let service: TestService;
  before(async () => (service = await TestService.start()));
  after(() => service.stop());

  it('are what the script makes', () => {
    const { path, remove } = temporaryDirectory();
    execFileSync(process.execPath, [SCRIPT, path], { stdio: 'pipe' });
    for (const name of readdirSync(VECTORS)) {
      expect(readFileSync(join(path, name), 'utf8'), name).to.equal(readFileSync(join(VECTORS, name), 'utf8'));
    }
    remove();
  });

  it('for patches hold for a JSON Patch package', () => {
    const cases = read<{ title: string; state: State; patch: never[]; result: State }>('patches');
    expect(cases.length).to.be.above(90);
    for (const { title, state, patch, result } of cases) {
      expect(jsonPatch.applyPatch(state, patch, true, false).newDocument, title).to.deep.equal(result);
    }
  });

  it('for ids and numbers hold for the service', async () => {
    for (const { id, valid } of read<{ id: string; valid: boolean }>('ids')) {
      const commit = { writes: [{ put: `ids/${id}`, data: {} }] };
      const { status } = await service.request('POST', '/v1/commits', commit);
      expect(status === 200, id).to.equal(valid);
    }
    for (const { text, accepted, sent } of read<{ text: string; accepted: boolean; sent?: string }>('numbers')) {
      const { status, text: answer } = await service.request('PUT', '/v1/data/numbers/n', `{"n":${text}}`);
      expect(status < 300, text).to.equal(accepted);
      if (sent !== undefined) expect(answer, text).to.include(`"data":{"n":${sent}}`);
    }
  });

  it('for paths and orders hold for a watch', async () => {
    const ids = read<{ id: string; valid: boolean; path: string }>('ids').filter(({ valid }) => valid);
    const watch = await StreamReader.open(`${service.url}/v1/data/paths`);
    await until('the result', () => watch.events.length === 1);
    for (const { id, path } of ids) {
      await service.request('POST', '/v1/commits', { writes: [{ put: `paths/${id}`, data: {} }] });
      await until('the change', () => id in watch.state);
      expect((watch.events.at(-1)!.data as { patch: { path: string }[] }).patch[0]!.path).to.equal(path);
    }
    watch.close();
    const [first, ...queries] = read<{
      ascending: unknown[];
      order: string;
      documents: { id: string; data: object }[];
      ids: string[];
    }>('orders');
    const place = (n: number) => `v-${String(n).padStart(3, '0')}`;
    // They are written in the opposite order, and under ids that sort the other way.
    const values = first!.ascending.map((value, n) => ({ put: `values/${place(999 - n)}`, data: { value } }));
    await service.request('POST', '/v1/commits', { writes: values.reverse() });
    const ascending = await service.request('GET', '/v1/data/values?order=value');
    expect((ascending.json.documents as { data: { value: unknown } }[]).map(({ data }) => data.value)).to.deep.equal(
      first!.ascending,
    );
    const documents = queries[0]!.documents.map(({ id, data }) => ({ put: `ordered/${id}`, data }));
    await service.request('POST', '/v1/commits', { writes: documents });
    for (const { order, ids: expected } of queries) {
      const { json } = await service.request('GET', `/v1/data/ordered${order === '' ? '' : `?order=${order}`}`);
      expect(
        (json.documents as { id: string }[]).map(({ id }) => id),
        order,
      ).to.deep.equal(expected);
    }
  });

  it('for resuming hold for a parser of event streams and a JSON Patch package', () => {
    type Kept = { state: State; resume: string };
    const cases = read<Kept & { title: string; before?: Kept; stream: string; next: string }>('resume');
    for (const { title, before, stream, state, resume, next } of cases) {
      let kept: Kept = before ?? { state: {}, resume: '' };
      let ended = '';
      const parser = createParser({
        onEvent: ({ event, id, data }) => {
          const value = JSON.parse(data) as { documents: { id: string }[]; patch: never[]; status: number };
          if (event === 'end') ended = [401, 503].includes(value.status) ? 'connect again' : 'end';
          else if (event === 'change')
            kept.state = jsonPatch.applyPatch(kept.state, value.patch, true, false).newDocument;
          else kept = { ...kept, state: Object.fromEntries(value.documents.map((one) => [one.id, one])) };
          if (id !== undefined) kept.resume = id;
        },
      });
      parser.feed(stream);
      // A parser reports only events with data; the last id of a heartbeat is in the stream.
      if (stream.endsWith('\n\n') && /: still here\nid: (.*)\n\n$/.test(stream)) kept.resume = RegExp.$1;
      expect(kept, title).to.deep.equal({ state, resume });
      if (stream.endsWith('\n\n')) expect(ended || 'read on', title).to.equal(next);
    }
  });
});
