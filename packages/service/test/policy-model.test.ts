import { expect } from 'chai';
import jsonPatch from 'fast-json-patch';
import type { Document, JsonObject } from '@uproar/core';
import { StreamReader } from '../../../test/event-stream.js';
import { Random } from '../../../test/random.js';
import {
  modelClaims,
  modelConceal,
  modelOwner,
  modelRule,
  modelWithout,
  type ModelRule,
} from '../../../test/random-policy.js';
import { modelData, modelQuery, type ModelQuery } from '../../../test/random-query.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { TestService, until } from '../../../test/service.js';
import { makeToken, TOKEN_SETTINGS } from '../../../test/tokens.js';

const IDS = Array.from({ length: 9 }, (_, n) => `d-${n}`);
const newData = (random: Random): JsonObject => ({ ...modelData(random), ...modelOwner(random) });

/** A client that watches queries over a WebSocket and keeps a copy of each, through resets and new ids. */
class Watching {
  readonly copies: {
    query: ModelQuery;
    name: string;
    state: Record<string, unknown>;
    ids: string[];
    ended: boolean;
  }[] = [];
  #taken = 0;
  private constructor(readonly socket: RawSocket) {}

  static async open(service: TestService, token: string): Promise<Watching> {
    const socket = await RawSocket.open(service);
    await socket.call('hello', { token });
    return new Watching(socket);
  }

  async watch(query: ModelQuery): Promise<void> {
    const { result } = await this.socket.call('watch', { query: query.form });
    this.take();
    if (result) this.copies.push({ query, name: result.watch, ...copyOf(result.documents), ended: false });
  }

  /** Applies the messages received since. */
  take(): void {
    for (const { method, params } of this.socket.heard.slice(this.#taken)) {
      for (const copy of this.copies.filter(({ name }) => name === params?.watch || name === params?.was)) {
        if (method === 'reset') Object.assign(copy, { name: params.watch, ...copyOf(params.documents) });
        else if (method === 'change' && copy.query.form.ordered) {
          const ordered = { documents: copy.state, ids: copy.ids };
          const patched = jsonPatch.applyPatch(ordered, params.patch, true, false).newDocument;
          [copy.state, copy.ids] = [patched.documents, patched.ids];
        } else if (method === 'change')
          copy.state = jsonPatch.applyPatch(copy.state, params.patch, true, false).newDocument;
        else if (method === 'end') copy.ended = true;
      }
    }
    this.#taken = this.socket.heard.length;
  }
}

const byId = (documents: { id: string }[]) => Object.fromEntries(documents.map((document) => [document.id, document]));

const copyOf = (documents: { id: string }[]) => ({ state: byId(documents), ids: documents.map(({ id }) => id) });

/** A text that does not depend on the order of members. */
const canonical = (value: unknown): unknown =>
  JSON.parse(
    JSON.stringify(value, (_, inner: unknown) =>
      typeof inner === 'object' && inner !== null && !Array.isArray(inner)
        ? Object.fromEntries(Object.entries(inner).sort(([a], [b]) => (a < b ? -1 : 1)))
        : inner,
    ),
  );

const ROUNDS = Number(process.env.MODEL_ROUNDS ?? 2);

describe('what a caller sees, against a plain model', () => {
  for (let seed = 1; seed <= ROUNDS; seed++) {
    it(`is the same in reads, watches and the journal while documents, policies and claims change, seed ${seed}`, () =>
      checkModel(seed, 25));
  }
});

async function checkModel(seed: number, steps: number): Promise<void> {
  const random = new Random(seed * 7919);
  const service = await TestService.start({ tokens: TOKEN_SETTINGS });
  const model = new Map<string, Document>();
  const history: { seq: number; before: Document | undefined; after: Document | undefined }[] = [];
  let rule: ModelRule = modelRule(random);
  let conceal: string[] = [];
  const people: { claims: JsonObject; token: string; watching: Watching }[] = [];
  const setPolicy = async () => {
    rule = modelRule(random);
    conceal = modelConceal(random);
    await service.setPolicy({ collections: { model: { read: rule.text, conceal } } });
  };
  const seen = (document: Document | undefined, claims: JsonObject) =>
    document && rule.judge(document, claims) === true ? modelWithout(document, conceal) : undefined;
  const visible = (claims: JsonObject) => [...model.values()].flatMap((document) => seen(document, claims) ?? []);
  const write = async () => {
    const id = random.pick(IDS);
    const before = model.get(id);
    const path = `/v1/data/model/${id}`;
    if (before && random.chance(0.2)) {
      await service.request('DELETE', path);
      model.delete(id);
      history.push({ seq: -1, before, after: undefined });
    } else {
      const partial = random.chance(0.5) ? modelOwner(random) : newData(random);
      // Some documents expire in the far future.
      const end = random.chance(0.3) ? '?expires=2999-01-01T00:00:00Z' : '';
      const { json } = before
        ? await service.request('PATCH', path + end, partial)
        : await service.request('PUT', path + end, newData(random));
      model.set(id, json as Document);
      history.push({ seq: json.version, before, after: json as Document });
    }
  };
  try {
    for (let n = 0; n < 8; n++) await write();
    await setPolicy();
    for (let n = 0; n < 3; n++) {
      const claims = modelClaims(random);
      const token = await makeToken(claims);
      people.push({ claims, token, watching: await Watching.open(service, token) });
    }
    for (let step = 0; step < steps; step++) {
      const person = random.pick(people);
      const what = random.next();
      if (what < 0.2) await setPolicy();
      else if (what < 0.36) {
        person.claims = modelClaims(random);
        person.token = await makeToken(person.claims);
        await person.watching.socket.call('hello', { token: person.token });
      } else for (let n = random.integer(1, 3); n > 0; n--) await write();
      if (person.watching.copies.length < 4) await person.watching.watch(modelQuery(random, 'model'));
      for (const { claims, token, watching } of people) {
        const documents = visible(claims);
        const ask = service.as(token);
        const { status, json } = await ask('GET', '/v1/data/model');
        const context = `seed ${seed}, step ${step}: ${rule.text} for ${JSON.stringify(claims)} without ${conceal.join()}`;
        if (status === 403) expect(documents, context).to.deep.equal([]);
        else
          expect(canonical(json.documents), context).to.deep.equal(
            canonical(documents.sort((a, b) => (a.id < b.id ? -1 : 1))),
          );
        const query = modelQuery(random, 'model');
        if (status === 200 && query.form.limit !== 'none') {
          const answer = await ask('POST', '/v1/query', query.form);
          expect(canonical(answer.json.documents), `${context}, ${JSON.stringify(query.form)}`).to.deep.equal(
            canonical(query.answer(documents)),
          );
        }
        const id = random.pick(IDS);
        const one = await ask('GET', `/v1/data/model/${id}`);
        const expected = documents.find((document) => document.id === id);
        expect(one.status, context).to.equal(expected ? 200 : status === 403 ? one.status : 404);
        if (expected) expect(canonical(one.json)).to.deep.equal(canonical(expected));
        const journal = (await ask('GET', '/v1/journal')).json.events as {
          data: { before: unknown; after: unknown };
        }[];
        const changes = history
          .map(({ before, after }) => ({ before: seen(before, claims) ?? null, after: seen(after, claims) ?? null }))
          .filter(({ before, after }) => before || after);
        expect(canonical(journal.map(({ data }) => data)), context).to.deep.equal(canonical(changes));
        for (const copy of watching.copies) {
          let wanted: unknown;
          await until(
            `${context}: the watch ${JSON.stringify(copy.query.form)} shows what it must`,
            () => {
              watching.take();
              const answer = copy.query.answer(documents) as { id: string }[];
              wanted = canonical(byId(answer));
              if (copy.ended) return documents.length === 0 || status === 403;
              const inOrder = !copy.query.form.ordered || answer.map(({ id }) => id).join() === copy.ids.join();
              return inOrder && JSON.stringify(canonical(copy.state)) === JSON.stringify(wanted);
            },
            3000,
          );
        }
        watching.copies.splice(0, watching.copies.length, ...watching.copies.filter(({ ended }) => !ended));
      }
    }
  } finally {
    for (const { watching } of people) watching.socket.socket.terminate();
    await service.stop();
  }
}

describe('hidden documents', () => {
  for (let seed = 1; seed <= ROUNDS; seed++) {
    it(`reveal nothing: a store with them answers like one without, seed ${seed}`, () => compareWorlds(seed, 30));
  }
});

/**
 * Two stores: one has documents that are hidden from a caller, the other has only the visible ones, and a commit to a collection
 * closed to the caller for each hidden commit of the first one. Every answer they get must be the same in both.
 */
async function compareWorlds(seed: number, steps: number): Promise<void> {
  const random = new Random(seed * 104_729);
  const claims = { ...modelClaims(random), sub: 'ada' };
  const rule = { text: '', judge: undefined as unknown as ModelRule['judge'] };
  Object.assign(rule, modelRule(random, 3));
  const conceal = modelConceal(random);
  const writes = { create: true, update: true, delete: true };
  const [full, bare] = [
    await TestService.start({ tokens: TOKEN_SETTINGS }),
    await TestService.start({ tokens: TOKEN_SETTINGS }),
  ];
  // Neither rules that allow everything nor rules that allow nothing: those depend on the policy alone.
  await full.setPolicy({
    collections: {
      model: { read: `meta('version') < 0 OR meta('id') IS NOT NULL AND (${rule.text})`, ...writes, conceal },
    },
  });
  await bare.setPolicy({ collections: { model: { read: "meta('id') IS NOT NULL", ...writes } } });
  const token = await makeToken(claims);
  const worlds = [full, bare].map((service) => ({ service, ask: service.as(token) }));
  const model = new Map<string, Document>();
  const seen = (document: Document | undefined) =>
    document && rule.judge(document, claims) === true ? modelWithout(document, conceal) : undefined;

  const both = async (what: string, act: (world: (typeof worlds)[number]) => Promise<unknown>) => {
    const [a, b] = await Promise.all(worlds.map(act));
    expect(
      plain(a),
      `seed ${seed}: ${rule.text} for ${JSON.stringify(claims)} without ${conceal.join()}: ${what}`,
    ).to.deep.equal(plain(b));
  };
  const ask = (method: string, path: string, body?: unknown, headers: Record<string, string> = {}) =>
    both(`${method} ${path} ${JSON.stringify(body)} ${JSON.stringify(headers)}`, async (world) => {
      const { status, text, headers: answered } = await world.ask(method, path, body, headers);
      const sent = ['etag', 'content-type', 'location', 'allow', 'link', 'retry-after'].map((name) =>
        answered.get(name),
      );
      return { status, text, sent };
    });
  const commit = async () => {
    const id = random.pick(IDS);
    const before = model.get(id);
    const remove = before !== undefined && random.chance(0.25);
    const peer = random.chance(0.5) ? { peer: random.pick(IDS) } : {};
    const data = remove ? undefined : { ...(random.chance(0.5) ? before?.data : {}), ...newData(random), ...peer };
    const path = `/v1/data/model/${id}`;
    const { json } = remove ? await full.request('DELETE', path) : await full.request('PUT', path, data);
    const after = remove ? undefined : (json as Document);
    if (after) model.set(id, after);
    else model.delete(id);
    const [was, is] = [seen(before), seen(after)];
    if (is) await bare.request('PUT', path, is.data);
    else if (was) await bare.request('DELETE', path);
    else await bare.request('PUT', '/v1/data/void/v', {});
  };

  try {
    await full.request('PUT', '/v1/data/void/v', {});
    await bare.request('PUT', '/v1/data/void/v', {});
    for (const { service } of worlds) {
      const made = await service.request('POST', '/v1/indexes', { collection: 'model', fields: 'peer' });
      expect(made.status).to.be.below(300);
    }
    for (let n = 0; n < 10; n++) await commit();
    const streams = await Promise.all(
      worlds.map(({ service }) => StreamReader.open(`${service.url}/v1/data/model`, undefined, token)),
    );
    const journals = await Promise.all(
      worlds.map(({ service }) => StreamReader.open(`${service.url}/v1/journal?after=0`, undefined, token)),
    );
    for (let step = 0; step < steps; step++) {
      await commit();
      const id = random.pick(IDS);
      const visible = seen(model.get(id));
      const query = modelQuery(random, 'model').form;
      await ask('POST', '/v1/query', { ...query, limit: query.limit === 'none' ? 10 : query.limit });
      for (const accept of ['text/csv', 'application/x-ndjson']) await ask('POST', '/v1/query', query, { accept });
      await ask('POST', '/v1/explain', query);
      const totals = { where: query.where, summary: 'count(),max(altitude),sum(altitude)', by: 'status' };
      const include = {
        peer: { from: 'model', via: 'peer' },
        peers: { from: 'model', by: random.pick(['peer', 'peer', 'peerr']), order: '-altitude', limit: 2 },
        none: { from: 'void', via: 'peer', where: "a = 'b'", order: 'altitud' },
      };
      for (const path of ['/v1/query', '/v1/explain']) {
        await ask('POST', path, { from: 'model', ...totals });
        await ask('POST', path, { from: 'model', where: query.where, include });
      }
      await ask(
        'GET',
        `/v1/data/model/${id}`,
        undefined,
        random.pick([{}, { 'if-match': '"3"' }, { 'if-none-match': '*' }, { 'if-match': '*' }] as Record<
          string,
          string
        >[]),
      );
      await ask('HEAD', `/v1/data/model/${id}`);
      await ask('GET', `/v1/data/model/${id}?at=${random.integer(1, 12 + step)}`);
      await ask('GET', `/v1/journal?after=${random.integer(0, 10)}&limit=${random.integer(1, 30)}`);
      await ask('GET', `/v1/journal?doc=model/${id}&limit=${random.integer(1, 5)}`);
      await ask('GET', `/v1/journal?before=now&limit=${random.integer(1, 9)}`);
      await ask('GET', '/v1/collections');
      await ask('GET', '/v1/data/void');
      const reads = [{ doc: `model/${random.pick(IDS)}`, version: random.pick([0, 3, step]) }];
      await ask('POST', '/v1/commits', { writes: [{ merge: 'model/absent', data: { a: 1 } }], reads });
      const patch = {
        writes: [
          {
            patch: `model/${id}`,
            ops: [
              { op: 'test', path: '/status', value: 'aloft' },
              { op: 'add', path: '/x/y', value: 1 },
            ],
          },
        ],
      };
      await ask('POST', '/v1/commits', patch);
      await ask('DELETE', `/v1/data/model/${id}`, undefined, { 'if-match': '"1"' });
      // What they may not see they cannot have changed either.
      if (!visible) await ask('PATCH', `/v1/data/model/${id}`, { altitude: 1 });
    }
    await until(
      'both streams have come to the same end',
      () =>
        JSON.stringify(plain(streams[0]!.state)) === JSON.stringify(plain(streams[1]!.state)) &&
        journals[0]!.events.length === journals[1]!.events.length,
    );
    // As many events, for the same seqs, with the same in them: neither more nor fewer, neither sooner nor later.
    expect(plain(streams[0]!.events)).to.deep.equal(plain(streams[1]!.events));
    expect(plain(journals[0]!.events)).to.deep.equal(plain(journals[1]!.events));
    for (const stream of [...streams, ...journals]) stream.close();
  } finally {
    await Promise.all([full.stop(), bare.stop()]);
  }
}

/** The text without times and without ids of the store; it does not depend on the order of members. */
function plain(value: unknown): unknown {
  const text = JSON.stringify(canonical(value))
    .replace(/\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{3}Z/g, 'T')
    .replace(/"id":"(\w+)\.[\w-]{10}"/g, '"id":"$1"')
    .replace(/stores\/[\w-]+/g, 'store')
    // A cursor contains the order fields. Those depend on the policy, not on the documents.
    .replace(/next\\":\\"[\w-]+/g, 'next\\":\\"');
  return JSON.parse(text);
}
