import { where } from '@uproar/client';
import { useConnection, useWatch } from '@uproar/react';
import { balloons, store } from './data.js';
import { BalloonMap } from './balloon-map.js';
import { Counters } from './counters.js';
import { NextStarts } from './next-starts.js';
import { Notices } from './notices.js';

/** The public board: what is aloft, what starts next, and what there is to know. */
export function Board() {
  const aloft = useWatch(
    () =>
      balloons
        .where(({ status }) => where`${status} = ${'aloft'}`)
        .order('-altitude')
        .fields('name,altitude,position')
        .watch(),
    [],
  );
  return (
    <>
      <header>
        <h1>Festival board</h1>
        <Connection />
      </header>
      <main>
        <BalloonMap balloons={aloft.documents} loading={aloft.state === 'loading'} />
        <div className="side">
          <Counters aloft={aloft.state === 'loading' ? undefined : aloft.documents.length} />
          <NextStarts />
          <Notices />
        </div>
      </main>
    </>
  );
}

function Connection() {
  const { name } = useConnection(store);
  const online = name === 'online';
  return (
    <p role="status" className={online ? 'online' : 'offline'}>
      {online ? 'Live' : name === 'connecting' ? 'Connecting …' : 'No connection. This is what was known last.'}
    </p>
  );
}
