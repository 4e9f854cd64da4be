import type { Document, JsonObject } from '@uproar/client';
import { expect } from 'chai';
import { KEY, until } from '../../../test/service.js';
import { planEdit } from '../src/bulk/plan-edit.js';
import { findMappingFault, mapRow, proposeMapping, type ColumnTarget } from '../src/data/column-mapping.js';
import { readRows } from '../src/data/import-rows.js';
import { MovingService } from './moving-service.js';
import { Windows } from './windows.js';

const TIME = '2031-06-12T04:30:00.000Z';
const documentOf = (id: string, data: JsonObject): Document => ({ id, version: 1, created: TIME, updated: TIME, data });

describe('an edit of many documents', () => {
  const documents = [
    documentOf('a', { status: 'aloft', altitude: 300, pilot: { name: 'Luwil' }, notes: ['Fog', 'fog again'] }),
    documentOf('b', { status: 'landed', altitude: 0.1 }),
    documentOf('c', { status: 'landed', pilot: 'unknown', altitude: 'high' }),
  ];
  const plan = (edit: Parameters<typeof planEdit>[1]) => {
    const { writes, unchanged, skipped } = planEdit(documents, edit);
    return { writes: writes.map(({ id, to }) => [id, to]), unchanged, skipped };
  };
  const [a, b, c] = documents.map(({ data }) => data) as [JsonObject, JsonObject, JsonObject];

  it('sets a field, also inside of an object, and says where it cannot', () => {
    expect(plan({ kind: 'set', path: ['status'], value: 'landed' })).to.deep.equal({
      writes: [['a', { ...a, status: 'landed' }]],
      unchanged: 2,
      skipped: [],
    });
    expect(plan({ kind: 'set', path: ['pilot', 'name'], value: 'Fenyo' })).to.deep.equal({
      writes: [
        ['a', { ...a, pilot: { name: 'Fenyo' } }],
        ['b', { ...b, pilot: { name: 'Fenyo' } }],
      ],
      unchanged: 0,
      skipped: [{ id: 'c', reason: 'pilot is not an object.' }],
    });
  });

  it('adds to numbers, and removes fields', () => {
    expect(plan({ kind: 'add', path: ['altitude'], by: 0.2 })).to.deep.equal({
      writes: [
        ['a', { ...a, altitude: 300.2 }],
        ['b', { ...b, altitude: 0.3 }],
      ],
      unchanged: 0,
      skipped: [{ id: 'c', reason: 'altitude is not a number.' }],
    });
    const { status: _, ...rest } = b;
    expect(plan({ kind: 'remove', path: ['status'] }).writes[1]).to.deep.equal(['b', rest]);
    expect(plan({ kind: 'remove', path: ['pilot', 'name'] })).to.deep.include({ unchanged: 2 });
  });

  it('finds and replaces text as it is written, in one field or in all', () => {
    const replace = (find: string, by: string, path?: string[], matchCase = true) =>
      plan({ kind: 'replace', path, find, by, matchCase }).writes;
    expect(replace('landed', '$&.*', ['status'])).to.deep.equal([
      ['b', { ...b, status: '$&.*' }],
      ['c', { ...c, status: '$&.*' }],
    ]);
    expect(replace('fog', 'mist', undefined, false)).to.deep.equal([['a', { ...a, notes: ['mist', 'mist again'] }]]);
    expect(replace('.*', 'x')).to.deep.equal([]);
    expect(replace('u', 'U', ['pilot'])).to.deep.equal([
      ['a', { ...a, pilot: { name: 'LUwil' } }],
      ['c', { ...c, pilot: 'Unknown' }],
    ]);
  });

  it('leaves the documents themselves alone', () => {
    const before = JSON.stringify(documents);
    plan({ kind: 'replace', path: undefined, find: 'o', by: '0', matchCase: true });
    plan({ kind: 'set', path: ['pilot', 'name'], value: 1 });
    expect(JSON.stringify(documents)).to.equal(before);
  });
});

describe('the columns of an import', () => {
  const csv =
    'Name,Altitude (m),open,from,tags,pilot.name\nAmber,007,yes,2031-06-12 04:30Z,"a, b",Luwil\nCoral,1’250,no,never,,\n';
  const { rows } = readRows('balloons.csv', csv);
  const columns = [...rows[0]!.cells!.keys()];

  it('become known fields that differ only in how they are written', () => {
    expect(proposeMapping(columns, ['name', 'altitudeM', 'pilot.name']).map(({ field }) => field)).to.deep.equal([
      'name',
      'altitudeM',
      'open',
      'from',
      'tags',
      'pilot.name',
    ]);
    expect(proposeMapping(columns, []).at(-1)).to.deep.equal({
      column: 'pilot.name',
      field: '"pilot.name"',
      type: 'as read',
    });
  });

  it('are converted as it is said, and what cannot be is a fault of the row', () => {
    const mapping: ColumnTarget[] = [
      { column: 'Name', field: 'name', type: 'text' },
      { column: 'Altitude (m)', field: 'flight.altitude', type: 'number' },
      { column: 'open', field: '', type: 'as read' },
      { column: 'from', field: 'flight.from', type: 'time' },
      { column: 'tags', field: 'tags', type: 'list of texts' },
      { column: 'pilot.name', field: 'pilot.name', type: 'text' },
    ];
    expect(findMappingFault(mapping)).to.equal('');
    expect(mapRow(rows[0]!, mapping).data).to.deep.equal({
      name: 'Amber',
      flight: { altitude: 7, from: '2031-06-12T04:30:00.000Z' },
      tags: ['a', 'b'],
      pilot: { name: 'Luwil' },
    });
    expect(mapRow(rows[1]!, mapping).fault).to.equal('from: “never” is not a time.');
    const [, , open, from] = mapping as [ColumnTarget, ColumnTarget, ColumnTarget, ColumnTarget];
    const others = [
      { ...open, field: 'open', type: 'yes/no' as const },
      { ...from, type: 'text' as const },
    ];
    expect(mapRow(rows[1]!, [...mapping.slice(0, 2), ...others]).data).to.deep.include({
      flight: { altitude: 1250, from: 'never' },
      open: false,
    });
    const text = [{ column: 'Altitude (m)', field: 'altitude', type: 'text' as const }];
    expect(mapRow(rows[0]!, text).data).to.deep.include({ altitude: '007' });
  });

  it('are not mapped to two of one name, or to none', () => {
    const to = (...fields: string[]) =>
      fields.map((field, n): ColumnTarget => ({ column: `c${n}`, field, type: 'text' }));
    expect(findMappingFault(to('a', 'a'))).to.equal('Two columns become the field a.');
    expect(findMappingFault(to('', ''))).to.equal('All columns are left out.');
    expect(findMappingFault(to('a..b'))).to.include('is not the name of a field');
    expect(
      mapRow(rows[0]!, [
        { column: 'Name', field: 'pilot', type: 'text' },
        { column: 'pilot.name', field: 'pilot.name', type: 'text' },
      ]).fault,
    ).to.include('another column stands in its place');
  });

  it('keep fields of documents that are no column', () => {
    const [, second] = readRows('x.ndjson', '{"a":1}\n{"a":2,"late":true}\n').rows;
    expect(mapRow(second!, [{ column: 'a', field: 'b', type: 'as read' }]).data).to.deep.equal({ b: 2, late: true });
  });
});

describe('bulk work in the console', function () {
  this.timeout(120_000);
  const windows = new Windows();
  const moving = new MovingService({}, ['pads', 'kites']);
  const pads = () => moving.store.collection('pads');
  const states = async () => (await pads().list({ order: 'n' })).documents.map(({ data }) => String(data.state)).join();

  before(async () => {
    await moving.store.commit({
      writes: [1, 2, 3, 4].map((n) => ({
        put: `pads/p-${n}`,
        data: { n, state: n === 4 ? 'shut' : 'open', size: 10 * n },
      })),
    });
  });

  it('changes a field of all documents after a preview, undoes it as one step, and reports what it overtook', async () => {
    const page = await windows.signIn(moving.service.url, 'data/pads?edit=many', KEY);
    const drawer = page.locator('.ant-drawer-content');
    await drawer.getByRole('combobox', { name: 'field' }).fill('state');
    await drawer.getByRole('textbox', { name: 'value' }).fill('shut');
    await drawer.getByText('3 documents change').waitFor();
    await drawer.getByText('1 stay as they are').waitFor();
    expect(await drawer.getByRole('row').nth(1).innerText()).to.match(/p-1\s+state\s+open\s+shut/);
    // The preview follows the documents.
    await pads().merge('p-3', { state: 'shut' });
    await drawer.getByText('2 documents change').waitFor();
    await drawer.getByRole('button', { name: 'Change 2 documents' }).click();
    await until('it is written', async () => (await states()) === 'shut,shut,shut,shut');
    await pads().merge('p-1', { size: 11 });
    await page.getByRole('button', { name: 'Undo' }).click();
    await until('it is undone', async () => (await states()) === 'open,open,shut,shut');
    expect((await pads().get('p-1'))!.data.size, 'other fields stay as they are').to.equal(11);
    await page.getByRole('button', { name: 'Redo' }).click();
    await until('it is done again', async () => (await states()) === 'shut,shut,shut,shut');
    // What others changed meanwhile is not undone.
    await pads().merge('p-2', { state: 'flooded' });
    await page.getByRole('button', { name: 'Undo' }).first().click();
    await page.getByText('Not undone: p-2').waitFor();
    await until('the rest is undone', async () => (await states()) === 'open,flooded,shut,shut');
    await page.context().close();
  });

  it('finds and replaces in the selected documents only', async () => {
    await moving.store.commit({ writes: [1, 2, 3].map((n) => ({ put: `pads/p-${n}`, data: { n, state: 'open' } })) });
    const page = await windows.signIn(moving.service.url, 'data/pads', KEY);
    for (const id of ['p-1', 'p-3']) await page.locator(`[data-row="${id}"]`).getByRole('checkbox').click();
    await page.getByRole('button', { name: 'Edit field…' }).click();
    const drawer = page.locator('.ant-drawer-content');
    await drawer.getByText('Find and replace').click();
    await drawer.getByRole('textbox', { name: 'find', exact: true }).fill('op');
    await drawer.getByRole('textbox', { name: 'replace by' }).fill('OP');
    await drawer.getByRole('button', { name: 'Change 2 documents' }).click();
    await until('they are written', async () => (await states()) === 'OPen,open,OPen,shut');
    await page.context().close();
  });

  it('imports rows that are pasted from a spreadsheet, with columns mapped as it is said', async () => {
    await moving.store.collection('kites').put('k-0', { name: 'First', lengthM: 3 });
    const page = await windows.signIn(moving.service.url, 'data/kites', KEY);
    await page.locator('[data-row="k-0"]').waitFor();
    await page.evaluate(() => {
      const clipboardData = new DataTransfer();
      clipboardData.setData('text/plain', 'id\tName\tLength (m)\tremark\nk-1\tRed\t2,5\tx\nk-2\tBlue\t4\ty\n');
      document.body.dispatchEvent(new ClipboardEvent('paste', { clipboardData, bubbles: true, cancelable: true }));
    });
    const drawer = page.locator('.ant-drawer-content');
    const field = (column: string) => drawer.getByLabel(`Field of ${column}`);
    await field('Name').waitFor();
    expect(await field('Name').inputValue()).to.equal('name');
    expect(await field('Length (m)').inputValue()).to.equal('lengthM');
    await field('remark').fill('');
    await drawer.getByLabel('Type of Length (m)').selectOption('number');
    await drawer.getByRole('button', { name: 'Write 2 documents' }).click();
    await drawer.getByRole('button', { name: 'Show them' }).click();
    expect((await moving.store.collection('kites').get('k-1'))!.data).to.deep.equal({ name: 'Red', lengthM: 2.5 });
    expect((await moving.store.collection('kites').get('k-2'))!.data).to.deep.equal({ name: 'Blue', lengthM: 4 });
    await page.context().close();
  });
});
