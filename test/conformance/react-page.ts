// Shows a query with the React hooks, for the conformance kit.
import { connect } from '@uproar/client';
import { useConnection, useWatch } from '@uproar/react';
import { createElement, StrictMode, useEffect } from 'react';
import { createRoot } from 'react-dom/client';
import { given, show, wireQuery } from './page.js';

const store = connect(location.origin, { token: given.key });

function Documents() {
  const view = useWatch(() => store.watch({ query: wireQuery() }), []);
  const connection = useConnection(store);
  useEffect(() => show(view, connection), [view, connection]);
  return null;
}

createRoot(document.getElementById('board')!).render(createElement(StrictMode, null, createElement(Documents)));
