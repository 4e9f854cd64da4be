import { expect } from 'chai';
import { applyPatch, fieldChanges, guardedPatch, mergeEdits, PatchError, type JsonObject } from '@uproar/core';
import { Random } from '../../../test/random.js';

describe('edits', () => {
  const apply = (data: JsonObject, mine: JsonObject, base: JsonObject) => applyPatch(data, guardedPatch(base, mine));

  it('send only the changes, so that changes of others to other fields stay', () => {
    const base = { name: 'Amber', size: 3, pilot: { name: 'Ines', hours: 7 } };
    const mine = { name: 'Amber Heron', size: 3, pilot: { name: 'Ines', hours: 8 } };
    const theirs = { name: 'Amber', size: 4, pilot: { name: 'Jun', hours: 7 }, note: 'n' };
    expect(apply(theirs, mine, base)).to.deep.equal({
      name: 'Amber Heron',
      size: 4,
      pilot: { name: 'Jun', hours: 8 },
      note: 'n',
    });
    expect(guardedPatch(base, base)).to.deep.equal([]);
  });

  it('fail on a field that someone else has changed meanwhile', () => {
    const base = { size: 3, tags: ['a'] };
    expect(() => apply({ size: 4, tags: ['a'] }, { size: 5, tags: ['a'] }, base)).to.throw(PatchError);
    expect(() => apply({ size: 3, tags: ['b'] }, { size: 5, tags: ['a'] }, base)).not.to.throw();
    expect(() => apply({ size: 3 }, { size: 3, tags: ['a', 'c'] }, base)).to.throw(PatchError);
  });

  it('are merged, and where both changed a field, the choice decides', () => {
    const base = { name: 'Amber', size: 3, pilot: { name: 'Ines' }, gone: 1 };
    const mine = { name: 'Mine', size: 5, pilot: { name: 'Ines', hours: 2 }, gone: 1 };
    const theirs = { name: 'Theirs', size: 5, note: 'n' };
    const { data, conflicts } = mergeEdits(base, mine, theirs, ({ pointer }) =>
      pointer === '/name' ? 'theirs' : 'mine',
    );
    expect(conflicts).to.deep.equal([
      { name: 'name', pointer: '/name', before: 'Amber', mine: 'Mine', theirs: 'Theirs' },
      { name: 'pilot.hours', pointer: '/pilot/hours', before: undefined, mine: 2, theirs: undefined },
    ]);
    expect(data).to.deep.equal({ name: 'Theirs', size: 5, note: 'n', pilot: { hours: 2 } });
  });

  for (const seed of [1, 2, 3]) {
    it(`hold for random edits: without conflicts nothing of either is lost (seed ${seed})`, () => {
      const random = new Random(seed);
      const value = (depth: number): JsonObject[string] =>
        depth > 0 && random.chance(0.4)
          ? Object.fromEntries(
              ['a', 'b', 'c~/d', '__proto__x'].filter(() => random.chance(0.6)).map((name) => [name, value(depth - 1)]),
            )
          : random.pick([1, 2, 'x', null, true, [1], []]);
      const object = () =>
        Object.fromEntries(['a', 'b', 'c', 'd'].filter(() => random.chance(0.7)).map((name) => [name, value(2)]));
      const alter = (data: JsonObject): JsonObject => {
        const entries = new Map(Object.entries(data));
        for (const name of ['a', 'b', 'c', 'd']) {
          if (random.chance(0.2)) entries.set(name, value(2));
          else if (random.chance(0.1)) entries.delete(name);
        }
        return Object.fromEntries(entries);
      };
      let together = 0;
      for (let round = 0; round < 3000; round++) {
        const base = object();
        const [mine, theirs] = [alter(base), alter(base)];
        expect(applyPatch(base, guardedPatch(base, mine)), JSON.stringify({ base, mine })).to.deep.equal(mine);
        const { data, conflicts } = mergeEdits(base, mine, theirs);
        for (const { pointer, after } of fieldChanges(base, mine)) {
          if (conflicts.some((conflict) => conflict.pointer === pointer) || after === undefined) continue;
          const kept = () => applyPatch(data, [{ op: 'test', path: pointer, value: after }]);
          expect(kept, JSON.stringify({ pointer, base, mine, theirs, data })).not.to.throw();
        }
        const others = fieldChanges(base, theirs).map(({ pointer }) => pointer);
        const meet = (one: string, other: string) =>
          `${one}/`.startsWith(`${other}/`) || `${other}/`.startsWith(`${one}/`);
        if (fieldChanges(base, mine).some(({ pointer }) => others.some((other) => meet(pointer, other)))) continue;
        together++;
        // What the two come to is what the service makes of it.
        expect(applyPatch(theirs, guardedPatch(base, mine))).to.deep.equal(data);
      }
      expect(together).to.be.above(20);
    });
  }
});
