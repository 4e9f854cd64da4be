import { where } from '@uproar/client';
import { useWatch } from '@uproar/react';
import { flights } from './data.js';

/** The flights that start next, with the name of their pad. */
export function NextStarts() {
  const { documents, state } = useWatch(
    () =>
      flights
        .where(({ status }) => where`${status} = ${'planned'}`)
        .order('start')
        .limit(6)
        .include('pad = pads via padId fields name')
        .watch(),
    [],
  );
  return (
    <section aria-labelledby="starts-title">
      <h2 id="starts-title">Next starts</h2>
      {state === 'loading' ? <p>Loading …</p> : documents.length === 0 && <p>No more starts today.</p>}
      <ol className="starts">
        {documents.map(({ id, data, related }) => (
          <li key={id}>
            <time dateTime={data.start}>{data.start.slice(11, 16)}</time>
            <span>{nameOf(related?.pad) ?? data.padId}</span>
            <span>{passengers(data.passengers)}</span>
          </li>
        ))}
      </ol>
    </section>
  );
}

function passengers(count: number): string {
  return count === 0 ? 'no passengers' : `${count} passenger${count === 1 ? '' : 's'}`;
}

/** The name of the related pad; spectators may not see it everywhere. */
function nameOf(pad: unknown): string | undefined {
  return (pad as { data: { name: string } } | null | undefined)?.data.name;
}
