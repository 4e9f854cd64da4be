import { expect } from 'chai';
import { findRequirements, parseText } from '@uproar/core';
import { Intervals, type Interval } from '../dist/matcher/intervals.js';
import { Random } from '../../../test/random.js';

describe('the interval tree', () => {
  const bound = (random: Random) =>
    random.chance(0.2) ? undefined : { value: random.integer(0, 40), inclusive: random.chance(0.5) };
  const holds = ({ low, high }: Interval, value: number) =>
    (!low || value > Number(low.value) || (low.inclusive && value === low.value)) &&
    (!high || value < Number(high.value) || (high.inclusive && value === high.value));

  it('finds exactly the intervals that hold a value, while they come and go', () => {
    const random = new Random(101);
    const tree = new Intervals<number>();
    const present = new Map<number, Interval>();
    for (let step = 0; step < 6000; step++) {
      if (random.chance(0.6)) {
        const interval = { low: bound(random), high: bound(random) };
        present.set(step, interval);
        tree.add(interval, step);
      } else if (present.size > 0) {
        const item = random.pick([...present.keys()].slice(0, 20));
        tree.remove(present.get(item)!, item);
        present.delete(item);
      }
      if (step % 20 > 0) continue;
      const value = random.integer(-1, 41);
      const found: number[] = [];
      tree.find(value, (item) => found.push(item));
      const expected = [...present].filter(([, interval]) => holds(interval, value)).map(([item]) => item);
      expect(found.sort((a, b) => a - b)).to.deep.equal(expected.sort((a, b) => a - b));
    }
    for (const [item, interval] of present) tree.remove(interval, item);
    expect(tree.size).to.equal(0);
  });

  it('holds texts in the order of their code points', () => {
    const tree = new Intervals<string>();
    tree.add({ low: { value: 'b', inclusive: true }, high: { value: 'd', inclusive: false } }, 'b to d');
    tree.add({ low: { value: '\uffee', inclusive: true }, high: undefined }, 'high');
    const find = (value: string) => {
      const found: string[] = [];
      tree.find(value, (item) => found.push(item));
      return found;
    };
    expect(find('c')).to.deep.equal(['b to d']);
    expect(find('d')).to.deep.equal([]);
    expect(find('\u{1F388}')).to.deep.equal(['high']);
  });

  it('stays fast when very many intervals are added in order', () => {
    const tree = new Intervals<number>();
    const started = performance.now();
    for (let n = 0; n < 100_000; n++)
      tree.add({ low: { value: n, inclusive: true }, high: { value: n + 1, inclusive: false } }, n);
    let found = 0;
    for (let n = 0; n < 10_000; n++) tree.find(n * 7, () => found++);
    expect(found).to.equal(10_000);
    expect(performance.now() - started).to.be.below(100_000);
  });
});

describe('what must hold of fields for a condition to be true', () => {
  const requirements = (text: string, most?: number) =>
    findRequirements(parseText(text), most)?.map((row) =>
      row.map((one) =>
        one.kind === 'equal'
          ? `${one.path.join('.')} in ${JSON.stringify(one.values)}`
          : `${one.path.join('.')} ${one.low ? `${one.low.inclusive ? '[' : '('}${one.low.value}` : '('} ${one.high ? `${one.high.value}${one.high.inclusive ? ']' : ')'}` : ')'}`,
      ),
    );

  it('is found through AND, OR, NOT, BETWEEN, IN and LIKE', () => {
    expect(requirements("a = 1 AND b = 'x'")).to.deep.equal([['a in [1]', 'b in ["x"]']]);
    expect(requirements('a > 1 AND a <= 5 AND a > 2')).to.deep.equal([['a (2 5]']]);
    expect(requirements('3 < a')).to.deep.equal([['a (3 )']]);
    expect(requirements('NOT (a <> 1)')).to.deep.equal([['a in [1]']]);
    expect(requirements('NOT (a < 1 OR b > 2)')).to.deep.equal([['a [1 )', 'b ( 2]']]);
    expect(requirements('a = 1 OR a = 2')).to.deep.equal([['a in [1]'], ['a in [2]']]);
    expect(requirements('a IN (1, 2, 2)')).to.deep.equal([['a in [1,2]']]);
    expect(requirements('a NOT BETWEEN 1 AND 2')).to.deep.equal([['a ( 1)'], ['a (2 )']]);
    expect(requirements("a LIKE 'Am%'")).to.deep.equal([['a [Am An)']]);
    expect(requirements("a LIKE 'Amber'")).to.deep.equal([['a in ["Amber"]']]);
    expect(requirements("(a = 1 OR b = 2) AND c = 'x'")).to.deep.equal([
      ['a in [1]', 'c in ["x"]'],
      ['b in [2]', 'c in ["x"]'],
    ]);
  });

  it('is nothing where nothing single must hold', () => {
    for (const text of [
      'a <> 1',
      'a = 1 OR b <> 2',
      'a IS NULL',
      "a LIKE '%x'",
      'a = b',
      'NOT (a IN (1, 2))',
      'a + 1 = 2',
      'TRUE',
    ]) {
      expect(requirements(text), text).to.equal(undefined);
    }
    expect(requirements('a = 1 OR a = 2', 1), 'more alternatives than wanted').to.equal(undefined);
  });
});
