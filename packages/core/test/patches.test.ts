import { expect } from 'chai';
import jsonPatch from 'fast-json-patch';
import {
  applyChange,
  applyPatch,
  deepEqual,
  diff,
  mergePatch,
  PatchError,
  patchForChanges,
  patchForOrder,
  withoutFields,
  type Document,
  type JsonPatch,
  type JsonValue,
} from '@uproar/core';
import { Random } from '../../../test/random.js';

const clone = (value: JsonValue): JsonValue => JSON.parse(JSON.stringify(value)) as JsonValue;

describe('the difference of two values', () => {
  it('gives the second when applied to the first, for any two values', () => {
    const random = new Random(7);
    for (let round = 0; round < 4000; round++) {
      const before = random.object();
      const after = random.chance(0.8) ? random.altered(before) : random.object();
      const copy = clone(before);
      const patch = diff(before, after);
      const result = applyPatch(before, patch);
      expect(deepEqual(result, after), `round ${round}: ${JSON.stringify({ before, after, patch })}`).to.equal(true);
      expect(deepEqual(before, copy), 'the value patched stays as it was').to.equal(true);
    }
  });

  it('means the same to a JSON Patch package of other hands', () => {
    const random = new Random(11);
    for (let round = 0; round < 2000; round++) {
      const [before, after] = [random.object(), random.object()].map((value) => {
        delete (value as Record<string, unknown>)['__proto__'];
        return JSON.parse(JSON.stringify(value).replaceAll('"__proto__"', '"proto"')) as JsonValue;
      }) as [JsonValue, JsonValue];
      const result = jsonPatch.applyPatch(
        clone(before),
        clone(diff(before, after) as unknown as JsonValue) as never,
      ).newDocument;
      expect(deepEqual(result as JsonValue, after)).to.equal(true);
    }
  });

  it('is empty exactly for equal values', () => {
    expect(diff({ a: [1, { b: null }] }, { a: [1, { b: null }] })).to.deep.equal([]);
    expect(diff({ a: null }, {})).to.deep.equal([{ op: 'remove', path: '/a' }]);
  });

  it('names the one field that changed', () => {
    const before = { name: 'Amber Heron', altitude: 310, position: { type: 'Point', coordinates: [0.1, 0.2] } };
    expect(diff(before, { ...before, altitude: 420 })).to.deep.equal([
      { op: 'replace', path: '/altitude', value: 420 },
    ]);
  });

  it('inserts into a list and removes from it without writing the rest again', () => {
    const list = ['ann', 'bea', 'cor', 'dan', 'eve', 'fay'].map((name) => ({
      name,
      role: 'ground crew of the balloon',
    }));
    const without = [...list.slice(0, 2), ...list.slice(3)];
    expect(diff({ list }, { list: without })).to.deep.equal([{ op: 'remove', path: '/list/2' }]);
    expect(diff({ list: without }, { list })).to.deep.equal([{ op: 'add', path: '/list/2', value: list[2] }]);
  });

  it('replaces a whole object where that takes fewer bytes', () => {
    const before = { position: { a: 1, b: 2, c: 3 } };
    expect(diff(before, { position: { x: 1 } })).to.deep.equal([{ op: 'replace', path: '/position', value: { x: 1 } }]);
  });

  it('is never longer than writing everything again', () => {
    const random = new Random(13);
    for (let round = 0; round < 1000; round++) {
      const [before, after] = [random.object(), random.object()];
      const patch = diff(before, after);
      if (patch.length < 2) continue;
      expect(JSON.stringify(patch).length).to.be.at.most(
        JSON.stringify([{ op: 'replace', path: '', value: after }]).length,
      );
    }
  });
});

describe('a JSON Patch', () => {
  const apply = (target: JsonValue, patch: JsonPatch) => applyPatch(target, patch);

  // Each rule of RFC 6902, section 4.
  const CASES: [string, JsonValue, JsonPatch, JsonValue | 'refused'][] = [
    ['adds a member', {}, [{ op: 'add', path: '/a', value: 1 }], { a: 1 }],
    ['replaces an existing member by add', { a: 1 }, [{ op: 'add', path: '/a', value: 2 }], { a: 2 }],
    ['inserts before an index', [1, 3], [{ op: 'add', path: '/1', value: 2 }], [1, 2, 3]],
    ['appends with "-"', [1], [{ op: 'add', path: '/-', value: 2 }], [1, 2]],
    ['refuses an index beyond the end', [1], [{ op: 'add', path: '/3', value: 2 }], 'refused'],
    ['refuses an index with leading zeros', [1, 2], [{ op: 'replace', path: '/01', value: 2 }], 'refused'],
    ['refuses to replace a missing member', {}, [{ op: 'replace', path: '/a', value: 2 }], 'refused'],
    ['refuses to remove a missing member', {}, [{ op: 'remove', path: '/a' }], 'refused'],
    ['refuses a parent that is not there', {}, [{ op: 'add', path: '/a/b', value: 2 }], 'refused'],
    ['moves', { a: { b: 1 } }, [{ op: 'move', from: '/a/b', path: '/c' }], { a: {}, c: 1 }],
    ['refuses to move a value into itself', { a: {} }, [{ op: 'move', from: '/a', path: '/a/b' }], 'refused'],
    [
      'copies',
      { a: [1] },
      [
        { op: 'copy', from: '/a', path: '/b' },
        { op: 'add', path: '/b/-', value: 2 },
      ],
      { a: [1], b: [1, 2] },
    ],
    [
      'tests by deep equality',
      { a: { x: 1, y: [2] } },
      [{ op: 'test', path: '/a', value: { y: [2], x: 1 } }],
      { a: { x: 1, y: [2] } },
    ],
    ['refuses when a test fails', { a: 1 }, [{ op: 'test', path: '/a', value: '1' }], 'refused'],
    ['replaces the whole value', { a: 1 }, [{ op: 'replace', path: '', value: [] }], []],
    ['reads ~1 and ~0', { 'a/b~': 1 }, [{ op: 'replace', path: '/a~1b~0', value: 2 }], { 'a/b~': 2 }],
    [
      'treats __proto__ as a name',
      {},
      [{ op: 'add', path: '/__proto__', value: { x: 1 } }],
      JSON.parse('{"__proto__":{"x":1}}') as JsonValue,
    ],
  ];
  for (const [title, target, patch, expected] of CASES) {
    it(title, () => {
      if (expected === 'refused') expect(() => apply(target, patch)).to.throw(PatchError);
      else expect(deepEqual(apply(target, patch), expected)).to.equal(true);
    });
  }

  it('leaves parts it does not touch the same objects', () => {
    const target = { a: { deep: [1] }, b: { deep: [2] } };
    const result = apply(target, [{ op: 'replace', path: '/b/deep/0', value: 3 }]) as typeof target;
    expect(result.a).to.equal(target.a);
    expect(result.b).not.to.equal(target.b);
    expect(target.b.deep).to.deep.equal([2]);
  });

  it('does nothing when one of its operations fails', () => {
    const target = { a: 1 };
    expect(() =>
      apply(target, [
        { op: 'replace', path: '/a', value: 2 },
        { op: 'remove', path: '/b' },
      ]),
    ).to.throw(PatchError);
    expect(target).to.deep.equal({ a: 1 });
  });
});

describe('a merge patch', () => {
  it('sets, merges and removes', () => {
    const target = { name: 'Amber', pilot: { name: 'Jo', hours: 3 }, fuel: 50 };
    expect(mergePatch(target, { pilot: { hours: 4 }, fuel: null, status: 'aloft' })).to.deep.equal({
      name: 'Amber',
      pilot: { name: 'Jo', hours: 4 },
      status: 'aloft',
    });
    expect(target.fuel).to.equal(50);
  });

  it('replaces lists whole, and drops nulls where there was no object', () => {
    expect(mergePatch({ a: [1, 2] }, { a: [3] })).to.deep.equal({ a: [3] });
    expect(mergePatch({ a: 1 }, { a: { b: null, c: 2 } })).to.deep.equal({ a: { c: 2 } });
  });

  it('cannot reach the prototype of anything', () => {
    const result = mergePatch({}, JSON.parse('{"__proto__":{"polluted":true}}') as JsonValue);
    expect(({} as { polluted?: boolean }).polluted).to.equal(undefined);
    expect(Object.keys(result as object)).to.deep.equal(['__proto__']);
  });
});

describe('the difference of two orders', () => {
  const apply = (before: string[], after: string[]) => {
    const patch = patchForOrder(before, after, '/ids');
    const { ids } = applyPatch({ ids: before }, patch) as { ids: string[] };
    expect(ids, JSON.stringify({ before, after, patch })).to.deep.equal(after);
    return patch;
  };

  it('gives the second when applied to the first, for any two lists', () => {
    const random = new Random(19);
    for (let round = 0; round < 3000; round++) {
      const pool = Array.from({ length: random.integer(0, 12) }, (_, n) => `id-${n}`);
      const list = () => {
        const rest = pool.filter(() => random.chance(0.8));
        for (let n = random.integer(0, 3); n > 0 && rest.length > 0; n--) {
          const [moved] = rest.splice(random.integer(0, rest.length - 1), 1);
          rest.splice(random.integer(0, rest.length), 0, moved!);
        }
        return rest;
      };
      apply(list(), list());
    }
  });

  it('moves one id with two operations, and replaces the list where that is shorter', () => {
    const long = Array.from({ length: 500 }, (_, n) => `balloon-${n}`);
    const moved = [...long.slice(1, 400), long[0]!, ...long.slice(400)];
    expect(apply(long, moved)).to.deep.equal([
      { op: 'remove', path: '/ids/0' },
      { op: 'add', path: '/ids/399', value: 'balloon-0' },
    ]);
    expect(apply(['a', 'b', 'c'], ['c', 'b', 'a'])).to.deep.equal([
      { op: 'replace', path: '/ids', value: ['c', 'b', 'a'] },
    ]);
    expect(apply(long, long)).to.deep.equal([]);
  });
});

describe('the state of a watch', () => {
  it('follows changes of documents whose ids need an escape in a JSON Pointer', () => {
    for (const id of ['b~1', '~0', '~', '["a/b"]']) {
      const at = (version: number, n?: number) =>
        ({ id, version, created: '', updated: '', data: { n: n ?? 0, text: 'x'.repeat(99) } }) as Document;
      const state = new Map<string, Document>();
      const apply = (before: Document | undefined, after: Document | undefined) => {
        const patch = patchForChanges([{ collection: 'c', id, before, after }], () => true);
        applyChange(state, patch);
      };
      apply(undefined, at(1));
      expect([...state]).to.deep.equal([[id, at(1)]]);
      apply(at(1), at(2, 7));
      expect([...state]).to.deep.equal([[id, at(2, 7)]]);
      apply(at(2, 7), undefined);
      expect(state.size).to.equal(0);
    }
  });

  it('is computed once for views of whole documents, and separately for views with concealed fields', () => {
    const at = (version: number) =>
      ({
        id: 'a',
        version,
        created: '',
        updated: '',
        data: { n: version, secret: version, text: 'x'.repeat(99) },
      }) as Document;
    const change = { collection: 'c', id: 'a', before: at(1), after: at(2) };
    const whole = patchForChanges([change], () => true);
    expect(whole.map(({ path }) => path)).to.have.members(['/a/version', '/a/data/n', '/a/data/secret']);
    expect(patchForChanges([change], () => true)).to.equal(whole);
    const less = patchForChanges(
      [change],
      () => true,
      (document) => withoutFields(document, [['secret']]),
    );
    expect(less.map(({ path }) => path)).to.have.members(['/a/version', '/a/data/n']);
    expect(patchForChanges([change], ({ version }) => version === 2)).to.deep.equal([
      { op: 'add', path: '/a', value: change.after },
    ]);
  });
});
