import { expect } from 'chai';
import { readFileSync } from 'node:fs';
import { enableFullQueries, compile, OPERATORS, parseText, type Document, type JsonObject } from '@uproar/core';

const page = readFileSync(new URL('../../../docs/query.md', import.meta.url), 'utf8');

/** The documents of the festival, all collections together. */
const festival: Document[] = ['balloons', 'crews', 'pads', 'flights', 'stations', 'notices', 'gates'].flatMap(
  (name) => {
    const lines = readFileSync(new URL(`../../../demo/data/${name}.ndjson`, import.meta.url), 'utf8')
      .trim()
      .split('\n');
    return lines.map((line) => {
      const { id, ...data } = JSON.parse(line) as JsonObject & { id: string };
      return { id, version: 1, created: '2026-06-01T00:00:00.000Z', updated: '2026-06-11T00:00:00.000Z', data };
    });
  },
);

enableFullQueries();

describe('the page about the query language', () => {
  const section = page.slice(page.indexOf('## Conditions'), page.indexOf('`claim('));
  const examples = [...section.matchAll(/^\| .* \| (.*) \|$/gm)]
    .flatMap(([, cell]) => [...cell!.matchAll(/`([^`]+)`/g)].map(([, code]) => code!))
    .filter((code) => /[=<>(]| (IS|LIKE|IN|BETWEEN) /.test(code) && !/^meta\(…\)$/.test(code));

  it('has examples that can be asked, and that find something in the festival', () => {
    expect(examples.length).to.be.above(20);
    for (const example of examples) {
      const condition = compile(parseText(example));
      const found = festival.filter((document) => condition({ document }) === true).length;
      const findsNothing = example.startsWith('ACCENTI') || example.startsWith('CASEI');
      expect(found > 0 || findsNothing, `${example} finds ${found}`).to.equal(true);
    }
  });

  it('names every operator and function there is', () => {
    const text = page.toLowerCase();
    for (const name of OPERATORS.keys()) {
      const written = name === 'isnull' ? 'is null' : name;
      expect(text.includes(written), name).to.equal(true);
    }
  });
});
