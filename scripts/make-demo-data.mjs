// Writes the documents of the demo's balloon festival to demo/data, the same ones at every run.
import { mkdirSync, writeFileSync } from 'node:fs';
import { fileURLToPath } from 'node:url';

const directory = fileURLToPath(new URL('../demo/data/', import.meta.url));
let state = 20_260_612;

function random() {
  state = (Math.imul(state, 1_664_525) + 1_013_904_223) >>> 0;
  return state / 2 ** 32;
}
const pick = (list) => list[Math.floor(random() * list.length)];
const between = (low, high, digits = 0) => Number((low + random() * (high - low)).toFixed(digits));
const chance = (share) => random() < share;

const COLOURS = [
  'Amber',
  'Cobalt',
  'Coral',
  'Crimson',
  'Emerald',
  'Golden',
  'Indigo',
  'Ivory',
  'Jade',
  'Lilac',
  'Mauve',
  'Ochre',
  'Pearl',
  'Russet',
  'Saffron',
  'Scarlet',
  'Silver',
  'Teal',
  'Violet',
  'White',
];
const THINGS = [
  'Acorn',
  'Badger',
  'Comet',
  'Daisy',
  'Ember',
  'Feather',
  'Goose',
  'Heron',
  'Icicle',
  'Jackdaw',
  'Kite',
  'Lantern',
  'Magpie',
  'Nightjar',
  'Otter',
  'Puffin',
  'Quill',
  'Robin',
  'Swallow',
  'Thistle',
];
const SYLLABLES = [
  'an',
  'bel',
  'cor',
  'da',
  'el',
  'fen',
  'gri',
  'hol',
  'im',
  'jor',
  'kel',
  'lu',
  'mi',
  'nor',
  'os',
  'pel',
  'quin',
  'ra',
  'sel',
  'tor',
  'ul',
  'ven',
  'wil',
  'yo',
  'zan',
];
const VALLEYS = [
  'Quillmere',
  'Tarrowdale',
  'Osk Hollow',
  'Brindle Fen',
  'Larkmoor',
  'Vennick Ridge',
  'Sallow Reach',
  'Hobb’s Nook',
];

const word = (count) => {
  const text = Array.from({ length: count }, () => pick(SYLLABLES)).join('');
  return text[0].toUpperCase() + text.slice(1);
};
const person = () => `${word(2)} ${word(3)}`;
// A made-up region around the crossing of equator and prime meridian, where there is only sea.
const point = () => ({ type: 'Point', coordinates: [between(-0.2, 0.2, 5), between(-0.15, 0.15, 5)] });
const time = (day, minute) => new Date(Date.UTC(2026, 5, day, 4, minute)).toISOString();

const crews = [];
for (let n = 1; n <= 330; n++) {
  crews.push({
    id: `c-${n}`,
    name: `${pick(VALLEYS)} ${pick(['Chasers', 'Drifters', 'Lifters', 'Floaters', 'Lookouts', 'Burners'])}`,
    lead: person(),
    phone: `0${between(100, 999)} 555 ${String(between(0, 9999)).padStart(4, '0')}`,
    headcount: between(3, 9),
    truck: { plate: `${word(1).toUpperCase()}-${between(100, 999)}`, online: true, position: point() },
    radios: between(1, 4),
    certificates: ['ground', 'pilot', 'night', 'burner'].filter(() => chance(0.6)),
  });
}

const names = new Set();
while (names.size < 320) names.add(`${pick(COLOURS)} ${pick(THINGS)}`);
const balloons = [...names].map((name, index) => {
  const aloft = index < 40;
  return {
    id: `bl-${index + 1}`,
    name,
    registration: `FB-${String(index + 101).padStart(4, '0')}`,
    crewId: `c-${index + 1}`,
    status: aloft ? 'aloft' : pick(['packed', 'packed', 'inflating', 'landed', 'retrieved']),
    altitude: aloft ? between(120, 1400) : 0,
    climb: 0,
    heading: between(0, 359),
    fuel: between(35, 100),
    colours: [name.split(' ')[0].toLowerCase(), pick(COLOURS).toLowerCase()],
    envelope: { volume: between(1600, 6000), panels: between(12, 28) },
    pilot: { name: crews[index].lead, hours: between(60, 2400) },
    position: point(),
  };
});

const pads = Array.from({ length: 48 }, (_, index) => ({
  id: `p-${index + 1}`,
  name: `${pick(VALLEYS)} ${String.fromCharCode(65 + (index % 8))}`,
  surface: pick(['grass', 'grass', 'gravel', 'sand']),
  sizeMetres: between(30, 90),
  open: chance(0.9),
  claimedBy: null,
  position: point(),
}));

const flights = Array.from({ length: 1180 }, (_, index) => {
  const balloon = between(1, 320);
  const day = 1 + Math.floor(index / 118);
  const minute = between(0, 200);
  const duration = between(35, 110);
  const flown = day < 10;
  return {
    id: `f-${String(index + 1).padStart(4, '0')}`,
    balloonId: `bl-${balloon}`,
    crewId: `c-${balloon}`,
    padId: `p-${between(1, 48)}`,
    day,
    start: time(day, minute),
    ...(flown
      ? { end: time(day, minute + duration), maxAltitude: between(300, 1900), distanceKm: between(2, 31, 1) }
      : {}),
    passengers: between(0, 6),
    status: flown ? pick(['landed', 'landed', 'landed', 'cancelled']) : 'planned',
  };
});

const stations = Array.from({ length: 24 }, (_, index) => ({
  id: `ws-${String(index + 1).padStart(2, '0')}`,
  name: `${pick(VALLEYS)} ${pick(['mast', 'ridge', 'meadow', 'bridge'])}`,
  wind: { speed: between(0, 9, 1), gust: between(5, 14, 1), direction: between(0, 359) },
  temperature: between(6, 24, 1),
  pressure: between(995, 1028, 1),
  measured: time(10, 0),
  position: point(),
}));

const TITLES = [
  'Launch window moved',
  'Fog in the valley',
  'Radio check',
  'Pad closed for mowing',
  'Briefing in the big tent',
  'Lost and found',
  'Wind picking up',
  'Breakfast is served',
  'Road to the pads is soft',
  'Night glow rehearsal',
];
const notices = Array.from({ length: 120 }, (_, index) => ({
  id: `n-${String(index + 1).padStart(3, '0')}`,
  title: `${pick(TITLES)} (${pick(VALLEYS)})`,
  text: `Day ${1 + (index % 10)}: ${pick(['please look at the board', 'tell your crew', 'no need to call the tower', 'details at the briefing'])}.`,
  severity: pick(['info', 'info', 'info', 'caution', 'stop']),
  audience: pick(['all', 'crews', 'directors', 'spectators']),
  valid: { from: time(1 + (index % 10), 0), to: time(1 + (index % 10), 240) },
}));

const gates = ['north', 'river', 'meadow'].map((name, index) => ({
  id: `g-${index + 1}`,
  name: `${name[0].toUpperCase()}${name.slice(1)} gate`,
  open: true,
  visitors: between(200, 900),
}));

/** A round area about a position. */
function blob(x, y, width, height, corners, unevenness) {
  const ring = Array.from({ length: corners }, (_, index) => {
    const angle = (2 * Math.PI * index) / corners;
    const radius = 1 + between(-unevenness, unevenness, 3);
    return [round(x + width * radius * Math.cos(angle)), round(y + height * radius * Math.sin(angle))];
  });
  return { type: 'Polygon', coordinates: [[...ring, ring[0]]] };
}

/** A winding line through positions. */
function line(positions, steps, unevenness) {
  const winding = positions.slice(1).flatMap(([x2, y2], index) => {
    const [x1, y1] = positions[index];
    return Array.from({ length: steps }, (_, step) => [
      round(x1 + ((x2 - x1) * step) / steps + between(-unevenness, unevenness, 5)),
      round(y1 + ((y2 - y1) * step) / steps + between(-unevenness, unevenness, 5)),
    ]);
  });
  return { type: 'LineString', coordinates: [...winding, positions.at(-1)] };
}
const round = (value) => Number(value.toFixed(5));

const area = (id, name, kind, outline) => ({ id: `a-${id}`, name, kind, outline });
const RIVER = [
  [-0.26, 0.05],
  [-0.12, 0.09],
  [-0.02, 0.02],
  [0.09, -0.03],
  [0.26, -0.11],
];
const BROOK = [
  [-0.05, -0.2],
  [-0.03, -0.09],
  [0.02, 0.005],
];
const ROAD = [
  [-0.24, -0.15],
  [-0.08, -0.03],
  [0.02, 0.045],
  [0.15, 0.13],
  [0.25, 0.16],
];
const areas = [
  area('river', 'Quillmere', 'river', line(RIVER, 5, 0.004)),
  area('brook', 'Larkmoor brook', 'river', line(BROOK, 5, 0.004)),
  area('lake', 'Sallow water', 'lake', blob(0.115, 0.085, 0.028, 0.016, 14, 0.2)),
  area('wood', 'Osk wood', 'forest', blob(-0.13, -0.06, 0.06, 0.035, 14, 0.2)),
  area('heath', 'Tern heath', 'forest', blob(0.17, 0.04, 0.03, 0.04, 14, 0.2)),
  area('town', 'Hobbington', 'town', blob(0.02, 0.045, 0.024, 0.018, 12, 0.12)),
  area('village', 'Sallow Reach', 'town', blob(-0.075, 0.125, 0.013, 0.01, 9, 0.12)),
  area('launch', 'Launch field', 'launch field', blob(0, 0, 0.03, 0.02, 16, 0.05)),
  area('no-fly', 'No-fly zone over the mill', 'no-fly zone', blob(-0.16, 0.035, 0.026, 0.024, 24, 0)),
  area('road', 'East road', 'road', line(ROAD, 4, 0.003)),
];

const query = (id, name, parts, show) => ({ id, name, query: parts, ...(show ? { show } : {}) });
const ALOFT = "status = 'aloft'";
const queries = [
  query(
    'aloft-map',
    'Balloons aloft',
    { from: 'balloons', where: ALOFT, limit: 'none' },
    { show: 'map', colour: 'altitude', base: 'areas', trails: 'yes' },
  ),
  query(
    'altitudes',
    'Highest balloons',
    { from: 'balloons', where: ALOFT, order: '-altitude', limit: '8' },
    { show: 'chart', field: 'altitude' },
  ),
  query('by-status', 'Balloons by status', { from: 'balloons', summary: 'count()', by: 'status' }, { show: 'chart' }),
  query('visitors', 'Visitors', { from: 'gates', summary: 'sum(visitors)' }),
  query('next-flights', 'Next flights', {
    from: 'flights',
    where: "status = 'planned'",
    order: 'start',
    limit: '20',
    fields: 'start,balloonId,padId,passengers',
  }),
  query('pads-by-surface', 'Pads by surface', { from: 'pads', order: 'name' }, { show: 'cards', field: 'surface' }),
];
const boards = [
  {
    id: 'tower',
    name: 'Tower',
    tiles: [
      { query: 'aloft-map', width: 4, height: 2 },
      { query: 'visitors', width: 2, height: 1 },
      { query: 'by-status', width: 2, height: 1 },
      { query: 'altitudes', width: 3, height: 1 },
      { query: 'next-flights', width: 3, height: 1 },
    ],
  },
];

mkdirSync(directory, { recursive: true });
const festival = { balloons, crews, pads, flights, stations, notices, gates, areas };
const saved = { 'console-queries': queries, 'console-boards': boards };
for (const [collection, documents] of Object.entries({ ...festival, ...saved })) {
  const lines = documents.map((document) => JSON.stringify(document)).join('\n');
  writeFileSync(`${directory}${collection}.ndjson`, lines + '\n');
}
