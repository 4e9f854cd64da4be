// A page that uses every hook, for the tests to drive.
import { connect, type Store, type TypedDocument } from '@uproar/client';
import {
  PreparedWatch,
  WatchFailedError,
  useConnection,
  useDocument,
  usePreparedWatch,
  usePending,
  useWatch,
} from '@uproar/react';
import { Component, createElement as h, memo, StrictMode, Suspense, useState, type ReactNode } from 'react';
import { createRoot } from 'react-dom/client';

interface Balloon {
  name: string;
  status: string;
}

/** How often each part was rendered, by its name. */
const renders: Record<string, number> = {};
Object.assign(globalThis, { renders });
const count = (name: string) => (renders[name] = (renders[name] ?? 0) + 1);

const Row = memo(function Row({ balloon, pending }: { balloon: TypedDocument<Balloon>; pending: boolean }) {
  count(balloon.id);
  return h(
    'li',
    { id: balloon.id, className: pending ? 'pending' : '' },
    `${balloon.data.name} ${balloon.data.status}`,
  );
});

function List({ store, status }: { store: Store; status: string }) {
  count('list');
  const { documents, state, pending, error } = useWatch(
    () => store.collection('balloons').where`status = ${status}`.watch(),
    [store, status],
  );
  const rows = documents.map((balloon) =>
    h(Row, { key: balloon.id, balloon: balloon as never, pending: pending.has(balloon.id) }),
  );
  return h('section', { id: 'list' }, h('h2', null, `${status}: ${error?.title ?? state}`), h('ul', null, rows));
}

function One({ store, id }: { store: Store; id: string }) {
  count('one');
  const { document, state, pending } = useDocument(store.collection('balloons'), id);
  const text = document ? `${JSON.stringify(document.data)}${pending ? ' pending' : ''}` : 'none';
  return h('p', { id: 'one' }, `${id} ${state} ${text}`);
}

function Connection({ store }: { store: Store }) {
  count('connection');
  return h('p', { id: 'connection' }, `${useConnection(store).name}, ${usePending(store)} pending`);
}

function Board({ view }: { view: PreparedWatch<Balloon> }) {
  const { documents, state } = usePreparedWatch(view);
  return h('p', { id: 'board' }, `${state}: ${documents.map(({ id }) => id).join(' ')}`);
}

class Boundary extends Component<{ children: ReactNode }> {
  override state = { problem: '' };
  static getDerivedStateFromError(error: Error) {
    return { problem: error instanceof WatchFailedError ? `refused: ${error.problem?.type ?? ''}` : String(error) };
  }
  override render() {
    return this.state.problem === '' ? this.props.children : h('p', { id: 'boundary' }, this.state.problem);
  }
}

function App({ store, view, secret }: { store: Store; view: PreparedWatch<Balloon>; secret: PreparedWatch<unknown> }) {
  const [status, setStatus] = useState('aloft');
  const [id, setId] = useState('b-1');
  const [shown, setShown] = useState(true);
  const [asked, setAsked] = useState(false);
  const button = (label: string, act: () => void) => h('button', { onClick: act }, label);
  return h(
    'main',
    null,
    button('packed', () => setStatus('packed')),
    button('other', () => setId('b-2')),
    button('hide', () => setShown(!shown)),
    button('ask', () => setAsked(true)),
    h(Connection, { store }),
    shown ? h(List, { store, status }) : null,
    shown ? h(One, { store, id }) : null,
    shown ? h(Suspense, { fallback: h('p', { id: 'fallback' }, 'waiting') }, h(Board, { view })) : null,
    asked ? h(Boundary, null, h(Suspense, { fallback: 'waiting' }, h(Board, { view: secret as never }))) : null,
  );
}

if (typeof document !== 'undefined') {
  const [, token] = location.hash.split('=');
  const store = connect(location.origin, { token, graceMs: 200 });
  const view = new PreparedWatch(() => store.collection('balloons').order('name').watch());
  const secret = new PreparedWatch(() => store.collection('secrets').watch());
  Object.assign(window, { store });
  createRoot(document.querySelector('#app')!).render(
    h(StrictMode, null, h(App, { store, view: view as never, secret })),
  );
}

export { App };
