import { expect } from 'chai';
import { enableFullQueries, ShapeFinder, valueOfField, splitName, type Document, type JsonObject } from '@uproar/core';
import { Random } from '../../../test/random.js';

const DAY_MS = 86_400_000;
const documentOf = (n: number, data: JsonObject): Document => {
  const time = new Date(Date.UTC(2031, 5, 1) + n * DAY_MS).toISOString();
  return { id: `d-${n}`, version: n + 1, created: time, updated: time, data };
};
const find = (all: JsonObject[]) => {
  const finder = new ShapeFinder();
  all.forEach((data, n) => finder.add(documentOf(n, data)));
  const shape = finder.find();
  return { shape, field: (name: string) => shape.fields.find((one) => one.name === name)! };
};

enableFullQueries();

describe('shapes', () => {
  it('report fields with their types, ranges, lengths and examples, also within objects and lists', () => {
    const { shape, field } = find([
      { name: 'Amber', size: 3, pilot: { name: 'Ines' }, tags: ['a', 'b'], at: '2031-06-12T04:30:00Z' },
      { name: 'Coral Heron', size: -1.5, pilot: { name: 'Jun', hours: 7 }, tags: [], at: '2030-01-01' },
      {
        name: null,
        size: 'large',
        position: { type: 'Point', coordinates: [1, 2] },
        crew: [{ id: 'c-1' }, { id: 'c-2' }],
      },
    ]);
    expect(shape).to.include({ documents: 3, recent: 1, recentSince: '2031-06-03T00:00:00.000Z' });
    expect(field('name')).to.deep.include({ documents: 3, types: { text: 2, null: 1 }, lengths: { min: 5, max: 11 } });
    expect(field('size')).to.deep.include({ types: { number: 2, text: 1 }, numbers: { min: -1.5, max: 3 } });
    expect(field('size').examples).to.deep.equal([3, -1.5, 'large']);
    expect(field('pilot.hours')).to.deep.include({ documents: 1, types: { number: 1 } });
    expect(field('tags[]')).to.deep.include({ documents: 1, types: { text: 2 } });
    expect(field('crew[].id')).to.deep.include({ documents: 1, types: { text: 2 } });
    expect(field('at')).to.deep.include({
      types: { time: 2 },
      times: { min: '2030-01-01', max: '2031-06-12T04:30:00Z' },
    });
    expect(field('position')).to.deep.include({ types: { place: 1 } });
    expect(field('position.coordinates'), 'a place is one value').to.equal(undefined);
  });

  it('report rare fields with similar names, and fields that only recent documents have', () => {
    const { field } = find(
      Array.from({ length: 200 }, (_, n): JsonObject => ({
        status: 'aloft',
        crew: { captain: 'c' },
        ...(n === 5 ? { staus: 'aloft' } : {}),
        ...(n === 6 ? { crew: { captian: 'c' } } : {}),
        ...(n >= 160 ? { fuel: n } : { petrol: n }),
      })),
    );
    expect(field('staus')).to.deep.include({ rare: true, near: ['status'], documents: 1 });
    expect(field('crew.captian')).to.deep.include({ rare: true, near: ['crew.captain'] });
    expect(field('status')).to.deep.include({ rare: false, near: [] });
    expect(field('fuel')).to.include({ recently: 1, before: 0 });
    expect(field('petrol')).to.include({ recently: 0, before: 1 });
  });

  it('call nothing new where all documents came at once', () => {
    const finder = new ShapeFinder();
    for (let n = 0; n < 30; n++)
      finder.add({ ...documentOf(0, { size: n, ...(n < 6 ? { odd: 1 } : {}) }), id: `d-${n}` });
    const { recent, fields } = finder.find();
    expect(recent).to.equal(30);
    expect(fields.map(({ recently, before }) => [recently, before])).to.deep.equal([
      [1, 1],
      [0.2, 0.2],
    ]);
  });

  it('hold nothing where nothing was read', () => {
    expect(new ShapeFinder().find()).to.deep.equal({ documents: 0, recent: 0, recentSince: null, fields: [] });
  });

  for (const seed of [11, 12]) {
    it(`count as one who looks at each field of each document by itself (seed ${seed})`, () => {
      const random = new Random(seed);
      const documents = Array.from({ length: 300 }, () => random.object(3));
      const { shape } = find(documents);
      for (const { name, documents: count, numbers } of shape.fields) {
        if (name.includes('[]') || name.includes('"')) continue;
        const values = documents
          .map((data) => valueOfField({ data } as Document, splitName(name)))
          .filter((value) => value !== undefined);
        expect(values.length, name).to.equal(count);
        const found = values.filter((value) => typeof value === 'number');
        expect(numbers, name).to.deep.equal(
          found.length === 0 ? undefined : { min: Math.min(...found), max: Math.max(...found) },
        );
      }
    });
  }
});
