import { expect } from 'chai';
import { stringify } from 'csv-stringify/sync';
import { Random } from '../../../test/random.js';
import { readRows } from '../src/data/import-rows.js';
import { readCsv, SEPARATORS } from '../src/data/read-csv.js';

describe('reading whole documents for an import', () => {
  it('keeps when they expire, and leaves out the rest of their bookkeeping', () => {
    const document = { id: 'n-1', version: 3, created: '2026-06-01T00:00:00Z', updated: '2026-06-01T00:00:00Z' };
    const text = `${JSON.stringify({ ...document, expires: '2999-01-01T00:00:00Z', data: { text: 'Fog' } })}\n`;
    expect(readRows('notices.ndjson', text).rows).to.deep.equal([
      { place: 'line 1', data: { id: 'n-1', text: 'Fog' }, expires: '2999-01-01T00:00:00Z' },
    ]);
  });
});

describe('reading CSV for an import', () => {
  const read = (text: string) => {
    const { records, ...rest } = readCsv(text);
    return {
      ...rest,
      records: records.map(({ values, ...record }) => ({ ...record, ...(values && Object.fromEntries(values)) })),
    };
  };

  it('leaves out a row with a value too many, and takes one with too few', () => {
    expect(read('name,size\nAmber,1\nCoral,2,3\nJade\nTeal,4,\n').records).to.deep.equal([
      { line: 2, name: 'Amber', size: '1' },
      { line: 3, name: 'Coral', size: '2', fault: 'It has 3 values, but the heading has 2.' },
      { line: 4, name: 'Jade', size: '' },
      { line: 5, name: 'Teal', size: '4' },
    ]);
  });

  it('keeps both values of a repeated heading, and gives a column without one a name', () => {
    const { records, notes } = read('name,name,,name 2\na,b,c,d\n');
    expect(records).to.deep.equal([{ line: 2, name: 'a', 'name 3': 'b', 'column 3': 'c', 'name 2': 'd' }]);
    expect(notes).to.deep.equal([
      'Column 2 is called “name” like another one: its field is “name 3”.',
      'Column 3 has no name: its field is “column 3”.',
    ]);
  });

  it('finds the separator by what fits the rows', () => {
    for (const [text, separator] of [
      ['name,size;cm,height\nAmber,1,2\nCoral,3,4\n', ','],
      ['name;size\nAmber;1,5\nCoral;2,5\n', ';'],
      ['name,size;colour\n"a,b";c\n"d,e";f\n', ';'],
      ['name\tremark\na\tb, c; d\n', '\t'],
      ['name|size\na|1\n', '|'],
      ['"one; two",three\na,b\n', ','],
      ['name\nAmber\n', ','],
    ] as const) {
      expect(readCsv(text).separator, text).to.equal(separator);
    }
    expect([...readCsv('a;b,c\n1;2,3\n', ',').records[0]!.values!.keys()], 'as it was chosen').to.deep.equal([
      'a;b',
      'c',
    ]);
  });

  it('reports lines with quoting errors, and continues with the next line', () => {
    expect(read('a,b\n1,"x"y\n3,4\n5,x"y\n6,"never closed\n7,8\n9,"two\nlines"\n').records).to.deep.equal([
      { line: 2, fault: 'There is text after the closing quote of a value.' },
      { line: 3, a: '3', b: '4' },
      { line: 4, fault: 'A quote stands in the middle of a value that does not begin with one.' },
      { line: 5, fault: 'A quote is not closed.' },
      { line: 6, a: '7', b: '8' },
      { line: 7, a: '9', b: 'two\nlines' },
    ]);
    expect(() => read('"a\nb')).to.throw('The heading cannot be read: A quote is not closed.');
    expect(() => read('')).to.throw('The file is empty.');
  });

  it('reads back any value written as CSV', () => {
    const random = new Random(41);
    const texts = ['', 'a', 'b c', '"', '""', ',', ';', 'x,y', 'two\nlines', ' spaced ', '0', 'é', '|'];
    for (let round = 0; round < 400; round++) {
      const width = random.integer(2, 5);
      const heading = Array.from({ length: width }, (_, column) => `h${column}${random.pick(['', ',', '"', ' '])}`);
      const rows = Array.from({ length: random.integer(1, 8) }, () =>
        heading.map((_, column) => (column === 0 ? `id ${random.pick(texts)}` : random.pick(texts))),
      );
      const separator = random.pick(SEPARATORS);
      const text = (random.chance(0.3) ? '\uFEFF' : '') + stringify([heading, ...rows], { delimiter: separator });
      const { records, notes } = readCsv(text, separator);
      expect(notes).to.deep.equal([]);
      expect(
        records.map(({ values }) => [...values!.values()]),
        text,
      ).to.deep.equal(rows);
      expect(
        records.map(({ fault }) => fault),
        text,
      ).to.deep.equal(rows.map(() => undefined));
    }
  });

  it('parses rows with JSON values, and reports the place of errors', () => {
    const { rows } = readRows('pads.csv', 'id,size,open,tags\np-1,007,true,"[1,2]"\np-2,7,,\np-3,1,2,3,4\n');
    expect(Object.fromEntries(rows[0]!.cells!)).to.deep.equal({ id: 'p-1', size: '007', open: 'true', tags: '[1,2]' });
    expect(rows.map(({ cells: _, ...row }) => row)).to.deep.equal([
      { place: 'line 2', data: { id: 'p-1', size: '007', open: true, tags: [1, 2] } },
      { place: 'line 3', data: { id: 'p-2', size: 7 } },
      {
        place: 'line 4',
        data: { id: 'p-3', size: 1, open: 2, tags: 3 },
        fault: 'It has 5 values, but the heading has 4.',
      },
    ]);
  });
});
