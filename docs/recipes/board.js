// Keeps a correct live copy of a query with the browser's EventSource alone. EventSource cannot send a key, so each connection
// takes a ticket; the resume point goes into the address. The watch carries the order. Open it as board.html#<key>.
const key = location.hash.slice(1);
const query = new URLSearchParams({ where: "status = 'aloft'", order: '-altitude', limit: '10', ordered: 'true' });

let state = { documents: {}, ids: [] };
let resume = '';

async function connect() {
  let answer;
  try {
    const response = await fetch('/v1/tickets', { method: 'POST', headers: { authorization: `Bearer ${key}` } });
    answer = await response.json();
  } catch {
    return again();
  }
  if (!answer.ticket) return isPassing(answer) ? again() : refuse(answer);
  query.set('ticket', answer.ticket);
  if (resume) query.set('resume', resume);
  const source = new EventSource(`/v1/data/balloons?${query}`);
  const take = (event) => {
    const data = JSON.parse(event.data);
    if (event.type === 'change') apply(state, data.patch);
    else
      state = {
        documents: Object.fromEntries(data.documents.map((document) => [document.id, document])),
        ids: data.documents.map(({ id }) => id),
      };
    resume = event.lastEventId;
    show(`seq ${data.seq}`);
  };
  for (const name of ['result', 'change', 'reset']) source.addEventListener(name, take);
  source.addEventListener('end', (event) => {
    source.close();
    const problem = JSON.parse(event.data);
    if (isPassing(problem) || problem.status === 401) again();
    else refuse(problem);
  });
  // A ticket is good once, so EventSource must not connect again by itself.
  source.onerror = () => {
    source.close();
    again();
  };
}

/** Whether the same request can succeed later. All other problems are final. */
function isPassing({ status }) {
  return status === 429 || status >= 500;
}

function refuse(problem) {
  state = { documents: {}, ids: [] };
  show(problem.title);
}

function again() {
  show('No connection');
  setTimeout(connect, 1000);
}

/** Applies a JSON Patch (RFC 6902) of add, remove and replace. */
function apply(target, patch) {
  for (const { op, path, value } of patch) {
    const steps = path
      .split('/')
      .slice(1)
      .map((step) => step.replaceAll('~1', '/').replaceAll('~0', '~'));
    const last = steps.pop();
    const inner = steps.reduce((node, step) => node[step], target);
    if (Array.isArray(inner) && op !== 'replace')
      inner.splice(last === '-' ? inner.length : last, op === 'remove' ? 1 : 0, ...(op === 'add' ? [value] : []));
    else if (op === 'remove') delete inner[last];
    else inner[last] = value;
  }
}

function show(text) {
  document.getElementById('state').textContent = text;
  const lines = state.ids.map((id) => {
    const { name, altitude } = state.documents[id].data;
    return Object.assign(document.createElement('li'), { textContent: `${name} ${altitude} m` });
  });
  document.getElementById('board').replaceChildren(...lines);
}

connect();
