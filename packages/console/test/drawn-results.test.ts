import type { Document, JsonObject } from '@uproar/client';
import { parseText, prepareQuery } from '@uproar/core';
import { expect } from 'chai';
import { Random } from '../../../test/random.js';
import { readMoment } from '../src/past/read-moment.js';
import { changesOf, RewoundResult, type Change } from '../src/past/rewound-result.js';
import { alignLines, LineHistory } from '../src/result/chart/line-history.js';
import { groupCards } from '../src/result/cards/group-cards.js';
import { addBox } from '../src/result/map/box.js';
import { MOVE_MS, MovingPoints, positionAt } from '../src/result/map/moving-points.js';
import { placeOf, readGeoJson } from '../src/result/map/read-places.js';

const TIME = '2031-06-12T04:30:00.000Z';
const documentOf = (id: string, data: JsonObject, version = 1): Document => ({
  id,
  version,
  created: TIME,
  updated: TIME,
  data,
});

describe('a result moved through its past', () => {
  const FORMS = [
    { from: 'balloons', limit: 'none' as const },
    { from: 'balloons', where: 'altitude >= 5', order: '-altitude', limit: 'none' as const },
    { from: 'balloons', where: "status = 'aloft'", order: 'status,altitude', limit: 3 },
    { from: 'balloons', summary: 'count(),sum(altitude),max(altitude)', by: 'status' },
  ];

  for (const seed of [1, 2, 3, 4, 5, 6]) {
    it(`is at each seq what a query would have returned then (seed ${seed})`, () => {
      const random = new Random(seed);
      const store = new Map<string, Document>();
      const states: Document[][] = [[]];
      const changes: Change[] = [];
      for (let seq = 1; seq <= 120; seq++) {
        const id = `bl-${random.integer(0, 8)}`;
        const before = store.get(id);
        if (before && random.integer(0, 3) === 0) store.delete(id);
        else {
          const data = { altitude: random.integer(0, 9), status: random.pick(['aloft', 'landed', 'packed']) };
          store.set(id, documentOf(id, data, seq));
        }
        const after = store.get(id);
        states.push([...store.values()]);
        const type = 'uproar.document.updated' as const;
        if (before || after)
          changes.push({ seq, id, before, after, time: TIME, subject: `balloons/${id}`, identity: 'x', type });
      }
      for (const form of FORMS) {
        const query = prepareQuery(form);
        const shownAt = (seq: number) => {
          const matching = states[seq]!.filter((document) => query.matches({ document }) === true).sort(query.compare);
          if (!query.summary) return matching.slice(0, query.limit);
          const fresh = new RewoundResult(query, matching);
          return fresh.documents;
        };
        // The journal of a condition holds the changes of documents that match before or after.
        const matches = (document: Document | undefined) =>
          document !== undefined && query.matches({ document }) === true;
        const mine = changes.filter(({ before, after }) => matches(before) || matches(after));
        const all = states.at(-1)!.filter((document) => query.matches({ document }) === true);
        const result = new RewoundResult(query, all);
        for (let from = mine.length; from > 0; from -= 25) result.prepend(mine.slice(Math.max(0, from - 25), from));
        expect(result.changes).to.deep.equal(mine);
        for (let step = 0; step < 60; step++) {
          const to = random.integer(0, mine.length);
          const before = new Map(result.documents.map((document) => [document.id, document]));
          const altered = result.moveTo(to);
          const seq = to === mine.length ? states.length - 1 : to === 0 ? mine[0]!.seq - 1 : mine[to - 1]!.seq;
          expect(result.documents).to.deep.equal(shownAt(seq));
          if (query.summary || query.limit !== undefined) continue;
          for (const document of result.documents) {
            if (before.get(document.id) !== document) expect([...altered.keys()]).to.include(document.id);
          }
        }
      }
    });
  }

  it('takes the changes of a page in their order, also those of one commit', () => {
    const event = (seq: number, place: number, data: object) =>
      ({ seq, id: `${seq}.${place}`, time: TIME, subject: 'balloons/a', identity: 'x', type: 'x', data }) as never;
    const page = [
      event(9, 0, { before: null, after: documentOf('a', { n: 1 }) }),
      event(9, 1, { before: documentOf('a', { n: 1 }), after: documentOf('a', { n: 2 }) }),
      event(8, 0, { before: null, after: null }),
    ];
    expect(changesOf(page).map(({ seq, after }) => [seq, after?.data.n])).to.deep.equal([
      [8, undefined],
      [9, 1],
      [9, 2],
    ]);
  });

  it('goes to a seq, a time of today or yesterday, or a date', () => {
    const now = new Date('2031-06-12T10:00:00');
    expect(readMoment('1,204', now)).to.deep.equal({ seq: 1204 });
    expect(readMoment(' 9:30 ', now)).to.deep.equal({ time: new Date('2031-06-12T09:30:00').getTime() });
    expect(readMoment('23:59:59', now)).to.deep.equal({ time: new Date('2031-06-11T23:59:59').getTime() });
    expect(readMoment('2031-06-01', now)).to.deep.equal({ time: new Date('2031-06-01T00:00').getTime() });
    expect(readMoment('2031-06-01 12:00', now)).to.deep.equal({ time: new Date('2031-06-01T12:00').getTime() });
    for (const text of ['', '1.5', '1,20', '24:00', '9:7', 'noon', '2031-13-01', '1204x', '1'.repeat(16)]) {
      expect(readMoment(text, now), text).to.equal(undefined);
    }
  });
});

describe('a map of documents', () => {
  const at = (longitude: number, latitude: number) => ({ type: 'Point', coordinates: [longitude, latitude] });

  it('takes points and other geometries, and leaves out what lies beyond the poles or is none', () => {
    const place = (value: unknown) => placeOf(documentOf('bl-1', { at: value as never }), ['at']);
    expect(place(at(0.1, -0.2))).to.deep.equal({ point: [0.1, -0.2] });
    const line = {
      type: 'LineString',
      coordinates: [
        [0, 0],
        [1, 1],
      ],
    };
    expect(place(line)).to.deep.equal({ shape: line });
    for (const none of [at(0, 91), at(-181, 0), 'here', null, undefined, { type: 'Point' }, [0, 0]]) {
      expect(place(none), JSON.stringify(none)).to.equal(undefined);
    }
  });

  it('reads base layers from each kind of GeoJSON', () => {
    const point = at(1, 2);
    const feature = { type: 'Feature', properties: null, geometry: point };
    for (const file of [
      point,
      feature,
      { type: 'FeatureCollection', features: [feature, { type: 'Feature', geometry: null }] },
    ]) {
      expect(readGeoJson(JSON.stringify(file))).to.deep.equal([point]);
    }
    expect(() => readGeoJson('{"type":"FeatureCollection","features":[]}')).to.throw('holds no GeoJSON geometry');
  });

  it('moves points to their new places, and remembers where they came from', () => {
    const points = new MovingPoints();
    const place = ({ data }: Document) => data.at as [number, number] | undefined;
    const show = (documents: Document[], now: number, still = false) =>
      points.update(documents, place, () => 0, now, still);
    expect(
      show([documentOf('a', { at: [0, 0] }), documentOf('b', { at: [5, 5] }), documentOf('c', {})], 1000),
    ).to.equal(2);
    expect(points.isMoving(1000)).to.equal(false);
    show([documentOf('a', { at: [10, 0] })], 2000);
    const a = points.byId.get('a')!;
    expect([...points.byId.keys()]).to.deep.equal(['a']);
    expect(positionAt(a, 2000)).to.deep.equal([0, 0]);
    expect(positionAt(a, 2000 + MOVE_MS / 2)[0]).to.be.within(5, 10);
    expect(positionAt(a, 2000 + MOVE_MS)).to.deep.equal([10, 0]);
    expect(points.isMoving(2000 + MOVE_MS)).to.equal(false);
    // Another move begins where the point is drawn.
    const middle = positionAt(a, 2000 + MOVE_MS / 2);
    show([documentOf('a', { at: [10, 10] })], 2000 + MOVE_MS / 2);
    expect(positionAt(a, 2000 + MOVE_MS / 2)).to.deep.equal(middle);
    expect(a.trail).to.deep.equal([0, 0, 10, 0]);
    for (let n = 0; n < 100; n++) show([documentOf('a', { at: [n, n] })], 9000 + n, true);
    expect(a.trail).to.have.lengthOf(80);
    expect(positionAt(a, 9100)).to.deep.equal([99, 99]);
    expect(points.nearest(98, 98, 5, 9100)?.id).to.equal('a');
    expect(points.nearest(50, 50, 5, 9100)).to.equal(undefined);
    expect(points.within([98, 98, 100, 100])).to.deep.equal(['a']);
    expect(points.extent()).to.deep.equal([99, 99, 99, 99]);
    show([], 9200);
    expect(points.extent()).to.equal(undefined);
  });

  it('adds a box to the condition, and replaces the one from before', () => {
    const box = [-0.123456789, 0, 0.5, 0.25] as const;
    const added = 'S_INTERSECTS(position, BBOX(-0.12346, 0, 0.5, 0.25))';
    expect(addBox('', 'position', box)).to.equal(added);
    expect(addBox("status = 'aloft'", 'position', box)).to.equal(`status = 'aloft' AND ${added}`);
    expect(addBox('a = 1 OR b = 2', 'position', box)).to.equal(`(a = 1 OR b = 2) AND ${added}`);
    const again = addBox(addBox('a = 1', 'position', [1, 2, 3, 4]), 'position', box);
    expect(again).to.equal(`a = 1 AND ${added}`);
    const nested = addBox('NOT (a = 1)', 'truck.position', box);
    expect(() => parseText(nested)).not.to.throw();
    const negated = addBox('NOT S_INTERSECTS(position, BBOX(1, 2, 3, 4))', 'position', box);
    expect(negated).to.equal(`NOT S_INTERSECTS(position, BBOX(1, 2, 3, 4)) AND ${added}`);
  });
});

describe('a chart of numbers over time', () => {
  it('holds each value until the next one, from wherever it is learned', () => {
    const history = new LineHistory();
    history.add('a', 30, 3);
    history.add('a', 10, 1);
    history.add('a', 20, 2);
    history.add('a', 20, 2.5);
    history.add('b', 15, 7);
    history.add('b', 25, null);
    expect(history.get('a')).to.deep.equal({ times: [10, 20, 30], values: [1, 2.5, 3] });
    expect(history.get('c')).to.deep.equal({ times: [], values: [] });
    expect(alignLines([history.get('a'), history.get('b')], 12, 40)).to.deep.equal({
      times: [12, 15, 20, 25, 30, 40],
      values: [
        [1, 1, 2.5, 2.5, 3, 3],
        [null, 7, 7, null, null, null],
      ],
    });
  });

  it('keeps the newest two thousand values of a line', () => {
    const history = new LineHistory();
    for (let time = 0; time < 2100; time++) history.add('a', time, time);
    expect(history.get('a').times).to.have.lengthOf(2000);
    expect(history.get('a').times[0]).to.equal(100);
  });
});

describe('documents as cards', () => {
  it('have a column for each value; columns keep their places, also when they are empty', () => {
    const cards = [
      documentOf('a', { status: 'planned' }),
      documentOf('b', {}),
      documentOf('c', { status: 'landed' }),
      documentOf('d', { status: 'planned' }),
    ];
    const first = groupCards(cards, ['status'], new Map());
    expect(first.map(({ title, documents }) => [title, documents.map(({ id }) => id).join()])).to.deep.equal([
      ['landed', 'c'],
      ['planned', 'a,d'],
      ['no status', 'b'],
    ]);
    const known = new Map(first.map(({ key, value }) => [key, value]));
    const second = groupCards([documentOf('c', { status: 'aloft' })], ['status'], known);
    expect(second.map(({ title, documents }) => [title, documents.length])).to.deep.equal([
      ['landed', 0],
      ['planned', 0],
      ['no status', 0],
      ['aloft', 1],
    ]);
  });
});
