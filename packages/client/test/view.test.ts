import { expect } from 'chai';
import { compareBy, parseOrder, patchForChanges, type Document, type DocumentChange } from '@uproar/core';
import { Random } from '../../../test/random.js';
import { LOADING, patchView, type DocumentsView } from '../dist/views/view.js';

const COMPARE = compareBy(parseOrder('-altitude'));

describe('a view after a patch', () => {
  for (const seed of [1, 2, 3]) {
    it(`is in order, and says where each document was and is, seed ${seed}`, () => {
      const random = new Random(seed);
      const state = new Map<string, Document>();
      let view: DocumentsView = LOADING;
      for (let seq = 1; seq <= 300; seq++) {
        const changes = Array.from({ length: random.integer(1, 4) }, () => `f-${random.integer(0, 12)}`)
          .filter((id, n, ids) => ids.indexOf(id) === n)
          .map((id): DocumentChange => {
            const before = state.get(id);
            const after = before && random.chance(0.3) ? undefined : documentOf(id, random.integer(0, 5), seq);
            return { collection: 'flights', id, before, after };
          });
        const previous = view;
        view = patchView(
          previous,
          state,
          patchForChanges(changes, () => true),
          seq,
          COMPARE,
        );
        const ids = ({ documents }: DocumentsView) => documents.map(({ id }) => id);
        expect(view.documents).to.deep.equal([...state.values()].sort(COMPARE));
        const placeIn = (all: string[], id: string) => (all.includes(id) ? all.indexOf(id) : undefined);
        const expected = changes.map(({ id }) => ({
          id,
          from: placeIn(ids(previous), id),
          to: placeIn(ids(view), id),
        }));
        expect(view.changes).to.have.deep.members(expected);
      }
    });
  }
});

function documentOf(id: string, altitude: number, version: number): Document {
  const time = '2026-06-06T10:00:00.000Z';
  return { id, version, created: time, updated: time, data: { altitude } };
}
