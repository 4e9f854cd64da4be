// The phone of a chase crew: one balloon, its state, and the reports of the crew. Works without a connection: shown
// data and unsent writes are kept, also over a reload.
import { connect, IndexedDbStorage } from '/client/uproar.js';

const STATES = ['packed', 'inflating', 'aloft', 'landed', 'retrieved'];
const $ = (id) => document.getElementById(id);

const link = new URLSearchParams(location.hash.slice(1));
// A real app would get a token for this person; the demo's link carries the key of the store.
const key = link.get('key') ?? localStorage.getItem('key');
const id = link.get('balloon') ?? localStorage.getItem('balloon') ?? 'bl-17';
if (key) localStorage.setItem('key', key);
localStorage.setItem('balloon', id);
history.replaceState(null, '', '.');
navigator.serviceWorker?.register('worker.js');

if (!key) $('empty').hidden = false;
else begin();

function begin() {
  const store = connect(location.origin, { token: key, storage: new IndexedDbStorage(`field/${location.host}`) });
  const balloons = store.collection('balloons');
  const reports = store.collection('reports');

  /** Pictures that have not arrived yet. */
  let unsent = [];
  /** How often pictures were looked for. */
  let runs = 0;

  store.subscribe(showConnection);
  setInterval(() => (unsent.length > 0 ? void showPictures() : showConnection(store.state)), 500);
  function showConnection(state) {
    const count = store.pending + unsent.length;
    const waiting = count === 0 ? '' : `, ${count} waiting`;
    const words = {
      connecting: 'Connecting …',
      online: 'Connected',
      offline: 'No connection',
      refused: 'Refused',
      closed: '',
    };
    $('connection').textContent = words[state.name] + waiting;
    $('connection').className = state.name;
  }

  balloons
    .fields('name')
    .order('name')
    .limit(400)
    .watch()
    .subscribe(({ documents }) => {
      if (documents.length === 0 || document.activeElement === $('choice')) return;
      $('choice').replaceChildren(...documents.map((one) => new Option(one.data.name, one.id, false, one.id === id)));
    });
  $('choice').addEventListener('change', ({ target }) => {
    localStorage.setItem('balloon', target.value);
    location.reload();
  });

  balloons.watchOne(id).subscribe(({ byId, pending, state }) => {
    const balloon = byId.get(id);
    $('balloon').hidden = !balloon;
    if (!balloon) return;
    const { name, status, altitude, fuel, registration, pilot } = balloon.data;
    $('name').textContent = name;
    $('name').classList.toggle('pending', pending.has(id));
    $('what').textContent = `${registration}, pilot ${pilot.name}${state === 'stale' ? ', as last heard' : ''}`;
    $('altitude').textContent = altitude;
    $('fuel').textContent = fuel;
    for (const button of $('status').children) button.ariaPressed = String(button.dataset.status === status);
  });
  $('status').replaceChildren(
    ...STATES.map((status) => {
      const button = document.createElement('button');
      button.type = 'button';
      button.textContent = button.dataset.status = status;
      button.addEventListener('click', () => send(balloons.merge(id, { status })));
      return button;
    }),
  );
  $('refuel').addEventListener('click', () => send(balloons.adjust(id, { '/fuel': { add: 10 } })));
  $('burn').addEventListener('click', () => send(balloons.adjust(id, { '/fuel': { add: -10 } })));

  reports.where`balloonId = ${id}`
    .order('-at')
    .limit(20)
    .watch()
    .subscribe(({ documents, pending }) => {
      $('reports').replaceChildren(
        ...documents.map(({ id: reportId, data }) => {
          const item = document.createElement('li');
          item.textContent = `${new Date(data.at).toLocaleTimeString()}  ${data.text}`;
          item.classList.toggle('pending', pending.has(reportId));
          return item;
        }),
      );
    });
  $('report').addEventListener('submit', (event) => {
    event.preventDefault();
    const text = $('text').value.trim();
    if (text === '') return;
    $('text').value = '';
    send(reports.create({ balloonId: id, text, at: new Date().toISOString() }));
  });

  // Pictures wait like everything else. Those that have arrived are shown by links that need no key.
  const pictures = store.collection('files').where`balloonId = ${id}`.order('-at').limit(6).watch();
  const images = new Map();
  pictures.subscribe(() => void showPictures());
  $('picture').addEventListener('change', ({ target }) => {
    const [file] = target.files;
    target.value = '';
    if (!file) return;
    const arrived = store.files.upload(file, { data: { balloonId: id, at: new Date().toISOString() } });
    setTimeout(showPictures);
    send(arrived.finally(showPictures));
  });
  void showPictures();
  async function showPictures() {
    const run = ++runs;
    unsent = (await store.files.pending().catch(() => [])).filter(({ data }) => data?.balloonId === id);
    const shown = new Map([
      ...unsent.map((file) => [file.id, { pending: true, name: file.name, content: file.content }]),
      ...pictures.current.documents.map((one) => [one.id, { pending: false, name: one.data.name }]),
    ]);
    for (const key of images.keys()) if (!shown.has(key)) images.delete(key);
    for (const [key, { pending, name, content }] of shown) {
      const image = images.get(key) ?? Object.assign(document.createElement('img'), { alt: name });
      images.set(key, image);
      image.classList.toggle('pending', pending);
      if (image.src !== '') continue;
      if (content) image.src = URL.createObjectURL(content);
      else if (store.state.name === 'online') image.src = await store.files.link(key).catch(() => '');
    }
    // A newer request has started in the meantime.
    if (run !== runs) return;
    $('pictures').replaceChildren(
      ...[...shown.keys()].map((key) => {
        const item = document.createElement('li');
        item.append(images.get(key));
        return item;
      }),
    );
    showConnection(store.state);
  }

  // Views undo refused writes; the page shows why.
  function send(done) {
    showConnection(store.state);
    done.then(
      () => showConnection(store.state),
      (error) => alert(error.message),
    );
  }
}
