import { compile, Matcher, parseText, type Document } from '@uproar/core';
import type { Row } from './harness.js';

export const COUNTS = [10, 100, 1000, 10_000, 100_000];
const MATCHING = 5;

/** Distinct live queries. The number of matches does not depend on the number of queries. */
function queries(kind: string, count: number): string[] {
  const matching = Array.from({ length: MATCHING }, (_, n) => `status = 'aloft' AND crewId = 'c-1' AND fuel > ${n}`);
  const others = Array.from({ length: count - MATCHING }, (_, n) => {
    if (kind === 'equality' || (kind === 'mixed' && n % 3 === 0)) return `crewId = 'c-${n + 2}' AND status = 'aloft'`;
    if (kind === 'hard') return hardQuery(n);
    if (kind === 'range' || n % 3 === 1) return `altitude BETWEEN ${1000 + n * 2} AND ${1001 + n * 2}`;
    return `status = 'aloft' AND (pilot.name = 'p-${n}' OR registration = 'FB-${n}')`;
  });
  return [...matching, ...others];
}

/** Conditions without an equality or a range of a field: parts of texts, functions, times, lists, areas, negations. */
function hardQuery(n: number): string {
  const [west, south] = [(n % 700) / 10 + 20, ((n * 7) % 500) / 10 + 10];
  return [
    `name LIKE '%balloon ${n}%'`,
    `CASEI(name) LIKE CASEI('%Flyer ${n}_')`,
    `lower(registration) = 'fb-${n}'`,
    `altitude * 2 + fuel > ${3000 + n}`,
    `NOT (altitude < ${1000 + n} OR status <> 'aloft')`,
    `NOT (name NOT LIKE '%no ${n}')`,
    `A_CONTAINS(tags, ['t-${n}', 'north'])`,
    `S_INTERSECTS(place, BBOX(${west}, ${south}, ${west + 0.1}, ${south + 0.1}))`,
    `seen > TIMESTAMP('2027-01-01T00:00:00Z') AND length(name) > ${n % 9}`,
    `landed IS NULL AND part(registration, '-', 2) = '${n}'`,
  ][n % 10]!;
}

const before: Document = {
  id: 'bl-1',
  version: 1,
  created: '',
  updated: '',
  data: {
    status: 'aloft',
    crewId: 'c-1',
    name: 'Amber Flyer',
    altitude: 400,
    fuel: 50,
    registration: 'FB-x',
    pilot: { name: 'Jo' },
    tags: ['north', 'night'],
    place: { type: 'Point', coordinates: [7.9, 8.1] },
    seen: '2026-06-11T04:00:00Z',
  },
};
const after: Document = { ...before, version: 2, data: { ...before.data, altitude: 410 } };

/** What it costs a commit to find the views it concerns among so many queries, in microseconds: by the matcher, and by testing all. */
export function measureMatch(kind: string, count: number): { matched: number; every: () => number } {
  const matcher = new Matcher<number>();
  const conditions = queries(kind, count).map((text) => parseText(text));
  conditions.forEach((node, index) => matcher.add(index, node));
  const tests = conditions.map(compile);
  const commit = () => {
    const found = new Set<number>();
    matcher.candidates(before, (index) => found.add(index));
    matcher.candidates(after, (index) => found.add(index));
    let matched = 0;
    for (const index of found) if (tests[index]!({ document: after }) === true) matched++;
    return matched;
  };
  if (commit() !== MATCHING) throw new Error('The matcher found something else than the few.');
  const testAll = () => {
    let matched = 0;
    for (const test of tests) {
      test({ document: before });
      if (test({ document: after }) === true) matched++;
    }
    return matched;
  };
  return { matched: time(commit), every: () => time(testAll) };
}

const NAMES: Readonly<Record<string, string>> = {
  hard: 'parts of texts, functions, lists, areas, times and negations',
};

/** Time for each commit to find the views it concerns, compared with testing every query. */
export function benchMatch(): Row[] {
  const rows: Row[] = [];
  for (const kind of ['equality', 'range', 'mixed', 'hard']) {
    const perCommit = new Map<number, number>();
    let every = 0;
    for (const count of COUNTS) {
      const { matched, every: testAll } = measureMatch(kind, count);
      perCommit.set(count, matched);
      if (count === 100_000) every = testAll();
    }
    const [few, many] = [perCommit.get(100)!, perCommit.get(100_000)!];
    const ratio = many / few;
    const most = kind === 'hard' ? 10 : 3;
    const table = COUNTS.map((count) => `${count}: ${perCommit.get(count)!.toFixed(2)}`).join(', ');
    rows.push({
      benchmark: 'match',
      what: `${NAMES[kind] ?? kind}; µs at ${table}`,
      ours: many,
      bare: few,
      unit: 'µs at 100,000 / at 100',
      ratio,
      aim: `at most ${most}`,
      reached: ratio <= most,
    });
    rows.push({
      benchmark: 'match',
      what: `${NAMES[kind] ?? kind}; compared with testing every query`,
      ours: many,
      bare: every,
      unit: 'µs per commit',
      ratio: many / every,
      aim: 'below 0.1',
      reached: many / every < 0.1,
    });
  }
  return rows;
}

/** Microseconds for one call, the best of several rounds. */
function time(act: () => unknown): number {
  let best = Number.POSITIVE_INFINITY;
  for (let round = 0; round < 7; round++) {
    let calls = 0;
    const start = performance.now();
    while (performance.now() - start < 60) {
      act();
      calls++;
    }
    best = Math.min(best, ((performance.now() - start) * 1000) / calls);
  }
  return best;
}
