import { expect } from 'chai';
import { enableFullQueries, compile, parseText, type Document, type JsonObject } from '@uproar/core';
import { Random } from '../../../test/random.js';
import { modelRelations, RELATION_NAMES, type Shape } from '../../../test/spatial-model.js';

const documentOf = (data: JsonObject): Document => ({ id: 'd', version: 1, created: '', updated: '', data });
const predicates = Object.fromEntries(RELATION_NAMES.map((name) => [name, compile(parseText(`${name}(a, b)`))]));

/** Random shapes on a small grid, so that they often touch, share edges or lie in each other. */
function randomShape(random: Random): Shape {
  const at = () => random.integer(0, 6);
  const position = (): [number, number] => [at(), at()];
  const line = (): [number, number][] => {
    const positions = [position()];
    while (positions.length < 2 + random.integer(0, 2)) {
      const next = position();
      const last = positions.at(-1)!;
      if (next[0] !== last[0] || next[1] !== last[1]) positions.push(next);
    }
    return positions;
  };
  const box = (x: number, y: number, width: number, height: number): [number, number][] => [
    [x, y],
    [x + width, y],
    [x + width, y + height],
    [x, y + height],
    [x, y],
  ];
  const polygon = (left = 0): [number, number][][] => {
    const kind = random.integer(0, 2);
    if (kind === 0) {
      for (;;) {
        const [a, b, c] = [position(), position(), position()];
        const area = (b[0] - a[0]) * (c[1] - a[1]) - (c[0] - a[0]) * (b[1] - a[1]);
        if (area !== 0) return [[a, b, c, a].map(([x, y]) => [x + left, y])] as [number, number][][];
      }
    }
    const [x, y] = [random.integer(0, 3) + left, random.integer(0, 3)];
    const [width, height] = [random.integer(1, 4), random.integer(1, 4)];
    const outer = box(x, y, width, height);
    if (kind === 1 || width < 3 || height < 3) return [outer];
    return [outer, box(x + 1, y + 1, width - 2, height - 2)];
  };
  switch (random.integer(0, 6)) {
    case 0:
      return { type: 'Point', coordinates: position() };
    case 1: {
      const points = [position(), position(), position()];
      return { type: 'MultiPoint', coordinates: [...new Map(points.map((one) => [String(one), one])).values()] };
    }
    case 2:
    case 3:
      return { type: 'LineString', coordinates: line() };
    case 4:
      return { type: 'MultiLineString', coordinates: [line(), line()] };
    case 5:
      return { type: 'MultiPolygon', coordinates: [polygon(), polygon(10)] };
    default:
      return { type: 'Polygon', coordinates: polygon() };
  }
}

enableFullQueries();

const ROUNDS = process.env.MODEL_ROUNDS === undefined ? 300 : 1000;

describe('spatial relations', () => {
  const square = [
    [0, 0],
    [6, 0],
    [6, 6],
    [0, 6],
    [0, 0],
  ];
  const hole = [
    [2, 2],
    [4, 2],
    [4, 4],
    [2, 4],
    [2, 2],
  ];
  const judge = (name: string, a: unknown, b: unknown) =>
    predicates[name]!({ document: documentOf({ a, b } as JsonObject) });

  it('see holes', () => {
    const whole = { type: 'Polygon', coordinates: [square] };
    const holed = { type: 'Polygon', coordinates: [square, hole] };
    expect(judge('s_within', whole, holed)).to.equal(false);
    expect(judge('s_within', holed, whole)).to.equal(true);
    expect(judge('s_contains', holed, { type: 'Point', coordinates: [3, 3] })).to.equal(false);
    expect(judge('s_touches', holed, { type: 'Point', coordinates: [2, 3] })).to.equal(true);
  });

  it('are false, not unknown, between geometries that cannot have the relation', () => {
    const point = { type: 'Point', coordinates: [1, 1] };
    expect(judge('s_within', { type: 'Polygon', coordinates: [square] }, point)).to.equal(false);
    expect(judge('s_contains', point, { type: 'Polygon', coordinates: [square] })).to.equal(false);
    expect(judge('s_crosses', point, point)).to.equal(false);
  });

  it('take collections of shapes', () => {
    const collection = {
      type: 'GeometryCollection',
      geometries: [
        { type: 'Point', coordinates: [1, 1] },
        {
          type: 'LineString',
          coordinates: [
            [1, 1],
            [5, 1],
          ],
        },
      ],
    };
    const area = { type: 'Polygon', coordinates: [square] };
    expect(judge('s_within', collection, area)).to.equal(true);
    expect(judge('s_contains', area, collection)).to.equal(true);
    expect(judge('s_intersects', collection, { type: 'Point', coordinates: [3, 1] })).to.equal(true);
    expect(judge('s_disjoint', collection, { type: 'Point', coordinates: [3, 2] })).to.equal(true);
    const alike = { type: 'GeometryCollection', geometries: [{ type: 'Polygon', coordinates: [square] }] };
    expect(judge('s_equals', alike, area)).to.equal(true);
  });

  for (const seed of [3, 14, 18]) {
    it(`agree with a model that samples every part of both shapes (seed ${seed})`, () => {
      const random = new Random(seed);
      for (let round = 0; round < ROUNDS; round++) {
        const [a, b] = [randomShape(random), randomShape(random)];
        const expected = modelRelations(a, b);
        const found = Object.fromEntries(RELATION_NAMES.map((name) => [name, judge(name, a, b)]));
        expect(found, JSON.stringify([a, b])).to.deep.equal(expected);
      }
    });
  }
});
