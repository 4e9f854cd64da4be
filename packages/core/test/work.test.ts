import { spawnSync } from 'node:child_process';
import { expect } from 'chai';
import {
  enableFullQueries,
  applyPatch,
  applyWrite,
  compile,
  diff,
  parseText,
  PatchWork,
  PatchWorkError,
  prepareQuery,
  WorkLimitError,
  type Document,
  type JsonObject,
  type JsonPatch,
} from '@uproar/core';

const documentOf = (data: JsonObject): Document => ({ id: 'd', version: 1, created: '', updated: '', data });

/** How many milliseconds something takes. */
function time(act: () => void): number {
  const started = performance.now();
  act();
  return performance.now() - started;
}

enableFullQueries();

describe('the work of a condition', () => {
  const text = 'ab'.repeat(500_000);
  const ring = (points: number) => {
    const circle = Array.from({ length: points }, (_, at) => {
      const angle = (2 * Math.PI * at) / points;
      return [Math.cos(angle), Math.sin(angle)];
    });
    return { type: 'Polygon', coordinates: [[...circle, circle[0]!]] };
  };
  const comb = (teeth: number, upright: boolean) => ({
    type: 'LineString',
    coordinates: Array.from({ length: teeth }, (_, at) => (upright ? [at / teeth, at % 2] : [at % 2, at / teeth])),
  });
  const HOSTILE: [string, string, JsonObject][] = [
    ['1,500 parts of a long text', Array(1500).fill("part(t,'a',-1)='x'").join(' OR '), { t: text }],
    ['500 foldings of a long text', Array(500).fill("ACCENTI(CASEI(t)) = 'x'").join(' OR '), { t: text }],
    ['a pattern that fails late', `t LIKE '%${'ab'.repeat(2000)}x%'`, { t: text }],
    [
      'long lists',
      Array(200).fill('A_OVERLAPS(l, m)').join(' OR '),
      { l: Array(50_000).fill(1), m: Array(50_000).fill(2) },
    ],
    ['texts that double', `length(${'concat(t, '.repeat(30)}t${')'.repeat(30)}) = 1`, { t: text }],
    ['lines that cross in many places', 'S_INTERSECTS(a, b)', { a: comb(20_000, true), b: comb(20_000, false) }],
    ['a shape with very many points', 'S_WITHIN(a, a)', { a: ring(45_000) }],
  ];

  for (const [name, where, data] of HOSTILE) {
    it(`ends early for ${name}`, () => {
      const { matches } = prepareQuery({ from: 'c', where });
      let error: unknown;
      const tookMs = time(() => {
        try {
          matches({ document: documentOf(data) });
        } catch (caught) {
          error = caught;
        }
      });
      expect(error).to.be.instanceOf(WorkLimitError);
      expect(tookMs).to.be.below(5000);
    });
  }

  it('is counted for each document, and in total', () => {
    const query = prepareQuery({ from: 'c', where: "t LIKE '%x'" });
    const document = documentOf({ t: text });
    for (let round = 0; round < 20; round++) expect(query.matches({ document })).to.equal(false);
    expect(query.work.total).to.be.within(20_000_000, 100_000_000);
  });

  it('lets ordinary shapes be related', () => {
    const { matches } = prepareQuery({ from: 'c', where: 'S_INTERSECTS(a, b)' });
    expect(matches({ document: documentOf({ a: ring(4000), b: ring(9000) }) })).to.equal(true);
  });
});

describe('the work of a JSON Patch', () => {
  const numbers = Array.from({ length: 500_000 }, (_, at) => at);
  const alternating = (rounds: number): JsonPatch =>
    Array.from({ length: rounds }, (_, at) =>
      at % 2 === 0 ? { op: 'copy', from: '/a/1', path: '/a/0' } : { op: 'remove', path: '/a/0' },
    );

  it('does not copy a long list again for every value copied within it', () => {
    const work = new PatchWork(1e12);
    expect(applyPatch({ a: numbers }, alternating(100), work)).to.deep.equal({ a: numbers });
    // The list is copied once; the rest moves items along.
    expect(work.limit - work.left).to.be.below(500_000 + 100 * 62_600);
  });

  it('ends early where it takes too many steps, and says so', () => {
    expect(() => applyPatch({ a: numbers }, alternating(1000), new PatchWork(20_000_000))).to.throw(PatchWorkError);
    const outcome = applyWrite(
      documentOf({ a: numbers }),
      { kind: 'patch', collection: 'c', id: 'd', ops: alternating(1000) },
      { seq: 2, timeMs: 0 },
      { sizeBytes: 1e8, depth: 64 },
    );
    expect(outcome).to.have.nested.property('refusal.kind', 'commit-too-costly');
  });

  it('keeps two places apart after a copy', () => {
    const patch: JsonPatch = [
      { op: 'add', path: '/a/x', value: 1 },
      { op: 'copy', from: '/a', path: '/b' },
      { op: 'add', path: '/b/y', value: 2 },
      { op: 'add', path: '/a/z', value: { deep: [] } },
      { op: 'copy', from: '/a', path: '/c' },
      { op: 'add', path: '/c/z/deep/-', value: 3 },
    ];
    expect(applyPatch({ a: {} }, patch)).to.deep.equal({
      a: { x: 1, z: { deep: [] } },
      b: { x: 1, y: 2 },
      c: { x: 1, z: { deep: [3] } },
    });
  });

  it('aligns lists within lists only as long as that is worth it', () => {
    const lists = (shift: number) =>
      Array.from({ length: 400 }, (_, at) =>
        Array.from({ length: 490 + shift }, (_, place) => (at * place * 7 + shift) % 97),
      );
    expect(time(() => diff({ a: lists(0) }, { a: lists(9) }))).to.be.below(5000);
  });
});

describe('folding case', () => {
  // Only the first two planes contain letters with case.
  it('is the full folding of Unicode for every character', () => {
    const ask =
      'import sys\nfor c in range(0x20000):\n  if 0xD800 <= c <= 0xDFFF: continue\n' +
      '  sys.stdout.buffer.write((chr(c) + "\\0" + chr(c).casefold() + "\\0").encode())';
    const { stdout } = spawnSync('python3', ['-c', ask], { maxBuffer: 64 * 1024 * 1024 });
    const parts = stdout.toString('utf8').split('\0\0\0').join('\0').split('\0');
    const fold = compile(parseText('CASEI(a) = b'));
    let compared = 0;
    const wrong: string[] = [];
    for (let at = 0; at + 1 < parts.length; at += 2) {
      const [a, b] = [parts[at]!, parts[at + 1]!];
      // Letters that a newer Unicode has, this Python may not know.
      if (a === '' || (a === b && a !== a.toLowerCase())) continue;
      compared++;
      if (fold({ document: documentOf({ a, b }) }) !== true) wrong.push(a);
    }
    expect(compared).to.be.above(120_000);
    expect(wrong).to.deep.equal([]);
  });
});
