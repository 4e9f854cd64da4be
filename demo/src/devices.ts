/**
 * Plays the devices of the festival against a running store: `node devices.js --url URL`, the key in `UPROAR_KEY`.
 * Each kind of device is a client of its own, like any other.
 */
import { parseArgs } from 'node:util';
import { connect, ConnectionError, isProblem, type JsonObject, type Presence, type Store } from '@uproar/client';
import { runRadioDesk } from './radio-desk.js';

const { values } = parseArgs({ options: { url: { type: 'string' } } });
/** The address of the store, or those of its nodes. */
const url = (values.url ?? process.env.UPROAR_URL ?? 'http://127.0.0.1:4680').split(',');
const token = process.env.UPROAR_KEY ?? '';

const stores: Store[] = [];

function connectDevice(device: string): Store {
  const store = connect(url, { token, device });
  stores.push(store);
  return store;
}

const between = (low: number, high: number) => low + Math.random() * (high - low);
const round = (value: number, digits: number) => Number(value.toFixed(digits));

/** Does something again and again. A device that cannot reach the store, or is too late, tries again next time. */
function every(intervalMs: number, act: () => Promise<unknown>): void {
  const turn = async () => {
    try {
      await act();
    } catch (error) {
      const expected =
        error instanceof ConnectionError ||
        isProblem(error, 'version-mismatch') ||
        isProblem(error, 'no-such-document');
      if (!expected) console.error(error instanceof Error ? error.message : error);
    }
    setTimeout(() => void turn(), intervalMs * between(0.7, 1.3));
  };
  setTimeout(() => void turn(), intervalMs * Math.random());
}

/** Balloons: those aloft rise, sink and drift; now and then one lands and another takes off. */
function flyBalloons(): void {
  const store = connectDevice('balloon-trackers');
  const balloons = store.collection('balloons');
  const watch = balloons.watch();
  const withStatus = (...wanted: string[]) =>
    watch.current.documents.filter(({ data }) => wanted.includes(String(data.status)));
  for (let device = 0; device < 5; device++) {
    every(900, async () => {
      const aloft = withStatus('aloft');
      const balloon = aloft[Math.floor(Math.random() * aloft.length)];
      if (!balloon) return;
      const [longitude = 0, latitude = 0] =
        (balloon.data.position as { coordinates?: number[] } | undefined)?.coordinates ?? [];
      const climb = round(between(-3, 3), 1);
      const altitude = Math.max(40, Math.min(2200, Math.round(Number(balloon.data.altitude) + climb * 20)));
      await balloons.merge(balloon.id, {
        altitude,
        climb,
        heading: Math.round(between(0, 359)),
        fuel: Math.max(0, Number(balloon.data.fuel) - (Math.random() < 0.2 ? 1 : 0)),
        position: {
          type: 'Point',
          coordinates: [round(longitude + between(-0.002, 0.002), 5), round(latitude + between(-0.002, 0.002), 5)],
        },
      });
    });
  }
  every(9000, async () => {
    const landing = withStatus('aloft')[0];
    if (landing) await balloons.merge(landing.id, { status: 'landed', altitude: 0, climb: 0 });
  });
  every(9000, async () => {
    const next = withStatus('packed', 'inflating').at(Math.floor(Math.random() * 20));
    if (next) await balloons.merge(next.id, { status: 'aloft', altitude: 60, climb: 2.5, fuel: 100 });
  });
}

/** Weather stations: each writes its own measurements. */
function measureWeather(): void {
  const stations = connectDevice('weather-mast').collection('stations');
  for (let number = 1; number <= 24; number++) {
    const id = `ws-${String(number).padStart(2, '0')}`;
    every(6000, () =>
      stations.merge(id, {
        wind: {
          speed: round(between(0, 9), 1),
          gust: round(between(5, 14), 1),
          direction: Math.round(between(0, 359)),
        },
        temperature: round(between(6, 24), 1),
        measured: new Date().toISOString(),
      }),
    );
  }
}

/** Spectators: three gates count who comes in. A gate counts on from what the store says, and only if that still holds. */
function countVisitors(): void {
  const gates = connectDevice('gate-counters').collection('gates');
  for (let number = 1; number <= 3; number++) {
    every(2000, async () => {
      const gate = await gates.get(`g-${number}`);
      if (!gate) return;
      const visitors = Number(gate.data.visitors) + Math.ceil(between(0, 5));
      await gates.merge(gate.id, { visitors }, { ifVersion: gate.version });
    });
  }
}

/** The ground board: adds up the counts of the gates, and announces every thousand visitors. */
function celebrateThousands(): void {
  const store = connectDevice('ground-board');
  let thousands: number | undefined;
  store
    .collection('gates')
    .summary('sum(visitors)')
    .watch()
    .subscribe(({ documents: [all] }) => {
      if (!all) return;
      const now = Math.floor(Number(all.data['sum(visitors)']) / 1000);
      if (thousands !== undefined && now > thousands) {
        const text = `More than ${now * 1000} visitors are in.`;
        store
          .collection('notices')
          .create({ title: 'From the gates', text, severity: 'info', audience: 'all' }, { ttl: 600 })
          .catch((error: unknown) => console.error(error));
      }
      thousands = now;
    });
}

/** Two crews that want the same pads: the first claim wins, the other gets a conflict. */
function claimPads(): void {
  for (const crew of ['c-7', 'c-21']) {
    const pads = connectDevice(`crew-tablet-${crew}`).collection('pads');
    every(5000, async () => {
      const pad = await pads.get(`p-${Math.ceil(Math.random() * 3)}`);
      if (!pad) return;
      const claimedBy = pad.data.claimedBy;
      if (claimedBy === null || claimedBy === undefined)
        await pads.merge(pad.id, { claimedBy: crew }, { ifVersion: pad.version });
      else if (claimedBy === crew) await pads.merge(pad.id, { claimedBy: null }, { ifVersion: pad.version });
    });
  }
}

/** Chase trucks: they follow the balloon of their crew, report where they are, and lose their connection for a while in the valleys. */
function driveTrucks(): void {
  for (let number = 1; number <= 3; number++) {
    const crew = `c-${number}`;
    const begin = () => {
      const store = connectDevice(`chase-truck-${number}`);
      store.collection('balloons').where`crewId = ${crew}`.watch();
      // Gone when the truck is out of reach for a while.
      store
        .collection('online')
        .present(`chase-truck-${number}`, { crew, since: new Date().toISOString() })
        .catch(() => undefined);
      return store;
    };
    let store = begin();
    every(4000, async () => {
      if (store.state.name === 'closed') {
        if (Math.random() < 0.4) store = begin();
        return;
      }
      const truck: JsonObject = {
        online: true,
        position: { type: 'Point', coordinates: [round(between(-0.2, 0.2), 5), round(between(-0.15, 0.15), 5)] },
      };
      const entersValley = Math.random() < 0.15;
      await store.collection('crews').merge(crew, { truck: { ...truck, online: !entersValley } });
      if (!entersValley) return;
      store.close();
      stores.splice(stores.indexOf(store), 1);
    });
  }
}

/** The tower: watches all that is aloft by altitude, and now and then posts a notice that lasts for a minute. */
function watchOver(): void {
  const store = connectDevice('tower');
  const aloft = store.collection('balloons').where`status = ${'aloft'}`
    .order('-altitude')
    .limit(50)
    .include('crew = crews via crewId fields name')
    .watch();
  const notices = store.collection('notices');
  const texts = ['Wind is turning east.', 'Two balloons over the ridge.', 'Pad 3 is free again.', 'Fog is lifting.'];
  every(12_000, async () => {
    const [highest] = aloft.current.documents;
    const report = highest && `${String(highest.data.name)} is highest, at ${String(highest.data.altitude)} m.`;
    const text = report && Math.random() < 0.5 ? report : texts[Math.floor(Math.random() * texts.length)]!;
    await notices.create({ title: 'From the tower', text, severity: 'info', audience: 'all' }, { ttl: 60 });
  });
}

/** The tower lets the next flight start, as long as enough are planned. */
function startFlights(): void {
  const flights = connectDevice('start-desk').collection('flights');
  every(15_000, async () => {
    const { documents } = await flights.where`status = ${'planned'}`.order('start').limit(20).list();
    const [next] = documents;
    if (next && documents.length === 20) await flights.merge(next.id, { status: 'landed' });
  });
}

/** The tower looks at one balloon after another, as people in the console do. */
function lookAround(): void {
  const viewers = connectDevice('tower-desk').collection('viewers');
  let held: Promise<Presence> | undefined;
  every(15_000, async () => {
    const data = { name: 'Tower', document: `balloons/bl-${Math.ceil(between(0, 12))}` };
    held ??= viewers.present('tower-desk', data);
    await (await held).update(data);
  });
}

flyBalloons();
measureWeather();
lookAround();
countVisitors();
celebrateThousands();
claimPads();
driveTrucks();
startFlights();
watchOver();
runRadioDesk(connectDevice('radio-desk')).catch((error: unknown) => console.error(error));

function stop(): void {
  for (const store of stores) store.close();
  process.exit(0);
}
process.on('SIGTERM', stop);
process.on('SIGINT', stop);
// The process that started the devices holds the other end of this pipe; when it ends, the devices end.
process.stdin.on('end', stop).resume();
