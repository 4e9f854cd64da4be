// Writes the test vectors in docs/vectors. They are made from fixed input, so that a second run gives the same files.
// Usage: node scripts/make-vectors.mjs [DIRECTORY]
import { mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import {
  applyPatch,
  compareBy,
  compareValues,
  diff,
  escapeToken,
  isDocumentId,
  isReservedId,
  parseJson,
  parseOrder,
  findDataFault,
} from '../packages/core/dist/index.js';

const directory = process.argv[2] ?? new URL('../docs/vectors/', import.meta.url).pathname;
mkdirSync(directory, { recursive: true });

const write = (name, about, cases) =>
  writeFileSync(join(directory, `${name}.json`), `${JSON.stringify({ about, cases }, null, 1)}\n`);

const document = (id, data, version = 1) => ({
  id,
  version,
  created: '2026-06-12T04:00:00.000Z',
  updated: '2026-06-12T04:00:00.000Z',
  data,
});
const state = (...documents) => Object.fromEntries(documents.map((one) => [one.id, one]));

// ---- patches
const NAMES = ['a/b', 'm~n', '~1', '~01', '', ' ', '0', '-', 'été', 'a.b', '"', '\\', '%20', '🎈', 'ab\ncd', '\u0000'];
const VALUES = [null, '', 0, -1.5, 1e21, 5e-324, 9007199254740991, '"\\/\b\f\n\r\t', '🎈 \u2028', [], {}, [[null]]];
const note = 'The note stays the same, so that a patch of one member is shorter than the whole document.';
const patches = [];
const patch = (title, before, after) => {
  const operations = diff(before, after);
  patches.push({ title, state: before, patch: operations, result: applyPatch(before, operations) });
};
patch('a document is added', {}, state(document('bl-1', { altitude: 1 })));
patch('a document is removed', state(document('bl-1', {}), document('bl-2', {})), state(document('bl-2', {})));
patch('an id with "~"', state(document('b~1', { n: 1, note })), state(document('b~1', { n: 2, note }, 2)));
for (const name of NAMES) {
  const title = `the member ${JSON.stringify(name)}`;
  const one = (data) => state(document('bl-1', { ...data, note }));
  patch(`${title} is added`, one({}), one({ [name]: 1 }));
  patch(`${title} is changed`, one({ [name]: { [name]: 1 } }), one({ [name]: { [name]: 2 } }));
  patch(`${title} is removed`, one({ [name]: 1 }), one({}));
}
for (const value of VALUES) {
  const one = (list) => state(document('bl-1', { list, note }));
  const rest = ['an item that stays the same, because it is long', 'another one'];
  patch(`${JSON.stringify(value)} is inserted into a list`, one(rest), one([rest[0], value, rest[1]]));
  patch(`${JSON.stringify(value)} is appended to a list`, one(rest), one([...rest, value]));
  patch(`${JSON.stringify(value)} replaces an item`, one(['x', ...rest]), one([value, ...rest]));
  patch(`${JSON.stringify(value)} is removed from a list`, one([value, ...rest]), one(rest));
}
const appended = [{ op: 'add', path: '/bl-1/data/list/-', value: 3 }];
const listed = state(document('bl-1', { list: [1, 2] }));
patches.push({ title: 'the end of a list', state: listed, patch: appended, result: applyPatch(listed, appended) });
write('patches', 'Each patch applied to its state gives the result.', patches);

// ---- orders
const ASCENDING = [
  null,
  false,
  true,
  -1e300,
  -1,
  0,
  0.1,
  1,
  9007199254740991,
  '',
  ' ',
  '10',
  '9',
  'Z',
  'a',
  'aa',
  'z',
  'ä',
  '\ue000',
  '🎈',
  [],
  [null],
  [1],
  [1, 0],
  [2],
  ['a'],
  {},
  { a: 1 },
  { a: 2 },
  { b: 0 },
];
ASCENDING.forEach((value, index) => {
  if (index > 0 && compareValues(ASCENDING[index - 1], value) >= 0) throw new Error(`Not ascending: ${value}`);
});
const balloons = [
  document('bl-1', { altitude: 300, name: 'Amber' }),
  document('bl-2', { altitude: 300, name: 'Coral' }),
  document('bl-3', { altitude: '300', name: 'Amber' }),
  document('bl-4', { name: 'Heron' }),
  document('bl-5', { altitude: null, name: 'Heron' }),
  document('BL-6', { altitude: 20, name: 'amber' }),
  document('bl~7', { altitude: 20, name: 'Ämber' }),
];
const ordered = (order) => ({
  order,
  documents: balloons,
  ids: [...balloons].sort(compareBy(order === '' ? [] : parseOrder(order))).map(({ id }) => id),
});
write(
  'orders',
  'First, values in ascending order, without equal ones. Then documents in the order of a query; equal ones by id.',
  [{ ascending: ASCENDING }, ...['altitude', '-altitude', 'name', '-name,altitude', 'altitude,-name', ''].map(ordered)],
);

// ---- ids
const IDS = [
  'bl-17',
  'B.7_x',
  '-',
  '0',
  'a~b',
  '~1',
  'x'.repeat(128),
  'x'.repeat(129),
  '',
  '.',
  '..',
  '...',
  'a/b',
  'a b',
];
const MORE_IDS = ['é', 'a%20b', 'a:b', '__proto__', 'constructor', 'prototype', '0190a3c2-7d1e-7c55-9f00-3b1c2d4e5f60'];
write(
  'ids',
  'Whether the store accepts an id; and how the path of a patch for it begins.',
  [...IDS, ...MORE_IDS].map((id) => {
    const valid = isDocumentId(id) && !isReservedId(id);
    return valid ? { id, valid, path: `/${escapeToken(id)}` } : { id, valid };
  }),
);

// ---- numbers
const NUMBERS = [
  '0',
  '-0',
  '1',
  '1.0',
  '1e2',
  '0.1',
  '1e21',
  '1E-7',
  '5e-324',
  '1.7976931348623157e308',
  '9007199254740991',
];
const REFUSED = [
  '9007199254740993',
  '123456789012345678901',
  '1e400',
  '-1e400',
  '01',
  '+1',
  '.5',
  '1.',
  'NaN',
  'Infinity',
  '0x10',
];
write(
  'numbers',
  'Whether the store accepts a JSON text as a value, and how it sends it back.',
  [...NUMBERS, ...REFUSED].map((text) => {
    try {
      const { n } = parseJson(`{"n":${text}}`);
      if (findDataFault({ n })) return { text, accepted: false };
      return { text, accepted: true, sent: JSON.stringify(n) };
    } catch {
      return { text, accepted: false };
    }
  }),
);

// ---- resume
const event = (name, id, data) => `event: ${name}\nid: ${id}\ndata: ${JSON.stringify(data)}\n\n`;
const first = event('result', '1.a', { seq: 1, documents: [document('bl-1', { n: 1 })], more: false });
const change = (seq, n) =>
  event('change', `${seq.toString(36)}.a`, { seq, patch: [{ op: 'replace', path: '/bl-1/data/n', value: n }] });
const problem = (status, name) =>
  `event: end\ndata: ${JSON.stringify({ type: `/problems/${name}`, title: name, status, detail: '' })}\n\n`;
const at = (n) => state(document('bl-1', { n }));
const START = 'retry: 2000\n\n';
write(
  'resume',
  'What a program has to hold after these bytes of an event stream, with which resume point, and what it does next.',
  [
    { title: 'the result', stream: START + first, state: at(1), resume: '1.a', next: 'read on' },
    { title: 'a change', stream: START + first + change(2, 5), state: at(5), resume: '2.a', next: 'read on' },
    {
      title: 'a heartbeat moves the resume point',
      stream: `${START + first}: still here\nid: 9.a\n\n`,
      state: at(1),
      resume: '9.a',
      next: 'read on',
    },
    {
      title: 'an event that is not finished does not count',
      stream: START + first + change(2, 5).slice(0, -1),
      state: at(1),
      resume: '1.a',
      next: 'connect again',
    },
    {
      title: 'an event that breaks within its data does not count',
      stream: START + first + change(2, 5).slice(0, 60),
      state: at(1),
      resume: '1.a',
      next: 'connect again',
    },
    {
      title: 'a reset discards everything',
      stream: START + first + event('reset', '4.b', { seq: 4, documents: [document('bl-2', {})], more: false }),
      state: state(document('bl-2', {})),
      resume: '4.b',
      next: 'read on',
    },
    {
      title: 'a resumed stream begins with a change',
      before: { state: at(1), resume: '1.a' },
      stream: START + change(7, 9),
      state: at(9),
      resume: '7.a',
      next: 'read on',
    },
    {
      title: 'a resumed stream may begin with an empty change',
      before: { state: at(1), resume: '1.a' },
      stream: START + event('change', '7.a', { seq: 7, patch: [] }),
      state: at(1),
      resume: '7.a',
      next: 'read on',
    },
    {
      title: 'the store stops',
      stream: START + first + problem(503, 'stopping'),
      state: at(1),
      resume: '1.a',
      next: 'connect again',
    },
    {
      title: 'the token has expired',
      stream: START + first + problem(401, 'token-expired'),
      state: at(1),
      resume: '1.a',
      next: 'connect again',
    },
    {
      title: 'the caller may not read any more',
      stream: START + first + problem(403, 'not-allowed'),
      state: at(1),
      resume: '1.a',
      next: 'end',
    },
    {
      title: 'the query costs too much',
      stream: START + first + problem(422, 'query-too-costly'),
      state: at(1),
      resume: '1.a',
      next: 'end',
    },
  ],
);
