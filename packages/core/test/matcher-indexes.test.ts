import { expect } from 'chai';
import { Matcher, parseText, type Document } from '@uproar/core';
import { Areas, type Box } from '../dist/matcher/areas.js';
import { ContainedTexts } from '../dist/matcher/contained-texts.js';
import { Random } from '../../../test/random.js';

describe('the index of areas', () => {
  const touch = (a: Box, b: Box) => a[0] <= b[2] && a[2] >= b[0] && a[1] <= b[3] && a[3] >= b[1];
  const boxOf = (random: Random): Box => {
    const scale = random.pick([0, 1e-12, 0.01, 1, 50, 1e9, 1e200]);
    const [west, south] = [random.integer(-100, 100) * scale, random.integer(-100, 100) * scale];
    return [west, south, west + random.integer(0, 60) * scale, south + random.integer(0, 60) * scale];
  };

  it('finds exactly the boxes that touch a box, while they come and go', () => {
    const random = new Random(111);
    const areas = new Areas<number>();
    const present: [number, Box][] = [];
    for (let step = 0; step < 4000; step++) {
      if (random.chance(0.55)) {
        const box = boxOf(random);
        const item = random.integer(0, 300);
        present.push([item, box]);
        areas.add(box, item);
      } else if (present.length > 0) {
        const [item, box] = present.splice(random.integer(0, present.length - 1), 1)[0]!;
        areas.remove(box, item);
      }
      if (step % 10 > 0) continue;
      const box = boxOf(random);
      const found = new Set<number>();
      areas.find(box, (item) => found.add(item));
      const expected = new Set(present.filter(([, other]) => touch(other, box)).map(([item]) => item));
      expect([...found].sort(), JSON.stringify(box)).to.deep.equal([...expected].sort());
    }
  });

  it('finds a point among very many small boxes without looking at them', () => {
    const areas = new Areas<number>();
    for (let n = 0; n < 100_000; n++) {
      const [west, south] = [(n % 300) * 0.1, Math.floor(n / 300) * 0.1];
      areas.add([west, south, west + 0.05, south + 0.05], n);
    }
    let found = 0;
    const started = performance.now();
    for (let n = 0; n < 20_000; n++) areas.find([(n % 30) + 0.02, 3.02, (n % 30) + 0.02, 3.02], () => found++);
    expect(found).to.equal(20_000);
    expect(performance.now() - started, 'not the time of two thousand million tests').to.be.below(20_000);
  });
});

describe('the index of contained texts', () => {
  it('misses no text that another one contains, while they come and go', () => {
    const random = new Random(121);
    const textOf = (length: number) => Array.from({ length }, () => random.pick(['a', 'b', 'é', '🎈'])).join('');
    const texts = new ContainedTexts<number>();
    const present: [number, string][] = [];
    let tested = 0;
    for (let step = 0; step < 4000; step++) {
      if (random.chance(0.6)) {
        const [item, text] = [random.integer(0, 400), textOf(random.integer(1, 14))];
        if (present.some(([one, other]) => one === item && other === text)) continue;
        present.push([item, text]);
        texts.add(text, item);
      } else if (present.length > 0) {
        const [item, text] = present.splice(random.integer(0, present.length - 1), 1)[0]!;
        texts.remove(text, item);
      }
      if (step % 10 > 0) continue;
      const asked = textOf(random.pick([0, 3, 20, 5000]));
      const found = new Set<number>();
      texts.find(asked, (item) => found.add(item));
      if (asked.length < 100) tested += found.size / Math.max(1, new Set(present.map(([item]) => item)).size);
      for (const [item, text] of present) {
        if (asked.includes(text)) expect(found.has(item), `${text} in ${asked}`).to.equal(true);
      }
    }
    expect(tested, 'few others are found').to.be.below(400 * 0.5);
    for (const [item, text] of present) texts.remove(text, item);
    let left = 0;
    texts.find('abé🎈'.repeat(10_000), () => left++);
    expect(left).to.equal(0);
  });
});

describe('the matcher, with expressions', () => {
  const documentOf = (data: Document['data']): Document => ({ id: 'bl-1', version: 1, created: '', updated: '', data });
  const found = (matcher: Matcher<string>, document: Document) => {
    const items = new Set<string>();
    matcher.candidates(document, (item) => items.add(item));
    return [...items].sort();
  };

  it('tests every condition on an expression that would take too much work on a document', () => {
    const matcher = new Matcher<string>();
    matcher.add('amber', parseText("CASEI(ACCENTI(notes)) = 'amber'"));
    matcher.add('gold', parseText("CASEI(ACCENTI(notes)) = 'gold'"));
    expect(found(matcher, documentOf({ notes: 'Ámber' }))).to.deep.equal(['amber']);
    expect(found(matcher, documentOf({ notes: 'x'.repeat(100_000) }))).to.deep.equal(['amber', 'gold']);
  });

  it('does not take conditions for each other that are filed under as many values', () => {
    const matcher = new Matcher<string>();
    matcher.add('both', parseText("crew IN ('a', 'b') OR crew IN ('c', 'd')"));
    expect(found(matcher, documentOf({ crew: 'd' }))).to.deep.equal(['both']);
    matcher.remove('both');
    expect(found(matcher, documentOf({ crew: 'd' }))).to.deep.equal([]);
  });

  it('keeps values that only claims or an earlier document decide out of it', () => {
    const matcher = new Matcher<string>();
    for (const text of ["crew = claim('crew')", 'was(crew) = crew', "LOWER(claim('crew')) = LOWER(crew)"]) {
      matcher.add(text, parseText(text));
    }
    expect(found(matcher, documentOf({ crew: 'a' }))).to.have.length(3);
  });
});
