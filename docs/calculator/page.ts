/** The form on the page about sizing. The address holds its values, so that it can be shared. */
import { estimate, type Load, type Need } from './model.js';

interface Field {
  name: keyof Load;
  label: string;
  /** What it means, where the label does not say it all. */
  about?: string;
  value: number;
}

const FIELDS: readonly Field[] = [
  { name: 'devices', label: 'Connected devices', value: 2000 },
  { name: 'watchersPerChange', label: 'Devices that get each change', value: 500, about: 'on average' },
  {
    name: 'views',
    label: 'Different views',
    value: 1,
    about: '1 if all watch the same query with the same rights; as many as devices if each has its own',
  },
  { name: 'commits', label: 'Writes per second', value: 20 },
  { name: 'queries', label: 'Queries per second', value: 20, about: 'of 20 documents, by an index' },
  { name: 'documents', label: 'Documents', value: 100_000 },
  { name: 'documentBytes', label: 'Bytes per document', value: 500 },
  { name: 'journalDays', label: 'Days in the journal', value: 7 },
];

const UNITS = ['B', 'kB', 'MB', 'GB', 'TB', 'PB'];

function formatBytes(bytes: number): string {
  const power = bytes < 1 ? 0 : Math.min(UNITS.length - 1, Math.floor(Math.log10(bytes) / 3));
  return `${Number((bytes / 1000 ** power).toPrecision(2)).toLocaleString('en')} ${UNITS[power]}`;
}

const rounded = (number: number) => Number(number.toPrecision(2)).toLocaleString('en');

/** Rows of the result: what, how much, and a remark. */
function describe(load: Load): [what: string, amount: string, remark: string][] {
  const need = estimate(load);
  const messages = `${rounded(need.messages)} messages per second to devices, and the results of queries`;
  return [
    ['Processor', `${rounded(need.cpu)} cores`, 'a node does most of its work on one core'],
    ['Memory', formatBytes(need.memoryBytes), 'of one node that has all devices'],
    ['Disk', formatBytes(need.diskBytes), 'on each node, without files and backups'],
    ['Network', `${formatBytes(need.sentBytesPerS)}/s`, messages],
    ['Nodes', need.nodes === undefined ? '–' : rounded(need.nodes), REASONS[need.because]],
  ];
}

/** Why so many nodes are needed. */
const REASONS: Readonly<Record<Need['because'], string>> = {
  'one suffices': 'three, if the store must survive the loss of a machine',
  processor: 'so that each is busy for half of the time at most',
  connections: 'for 20,000 connections each',
  commits: 'Too many writes for one store: write several documents in a commit, or use several stores',
};

function build(heading: HTMLElement): void {
  const given = new URLSearchParams(location.search);
  const form = document.createElement('form');
  form.className = 'calculator';
  form.setAttribute('aria-label', 'A load');
  const inputs = FIELDS.map(({ name, label, about, value }) => {
    const row = document.createElement('label');
    const input = document.createElement('input');
    Object.assign(input, { type: 'number', min: '0', step: 'any', name, required: true });
    input.value = given.get(name) ?? String(value);
    const words = document.createElement('span');
    words.textContent = label;
    if (about !== undefined) {
      const remark = document.createElement('small');
      remark.textContent = about;
      words.append(remark);
    }
    row.append(words, input);
    form.append(row);
    return input;
  });
  const output = document.createElement('output');
  output.className = 'calculator';
  const show = () => {
    const values = inputs.map((input) => (input.validity.valid ? Number(input.value) : NaN));
    if (values.some((value) => !Number.isFinite(value))) {
      output.textContent = 'Each field takes a number of at least 0.';
      return;
    }
    const load = Object.fromEntries(FIELDS.map(({ name }, n) => [name, values[n]])) as unknown as Load;
    const table = document.createElement('table');
    for (const row of describe(load)) {
      const line = table.insertRow();
      row.forEach((text, column) => {
        const cell = document.createElement(column === 0 ? 'th' : 'td');
        cell.textContent = text;
        line.append(cell);
      });
    }
    output.replaceChildren(table);
  };
  form.addEventListener('submit', (event) => event.preventDefault());
  form.addEventListener('input', () => {
    const query = new URLSearchParams(FIELDS.map(({ name }, n) => [name, inputs[n]!.value]));
    history.replaceState(null, '', `?${query}${location.hash}`);
    show();
  });
  show();
  heading.after(form, output);
}

const heading = document.getElementById('calculator');
if (heading) build(heading);
