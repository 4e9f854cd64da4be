import { where } from '@uproar/client';
import { useWatch } from '@uproar/react';
import { notices } from './data.js';

/** The latest notices for everybody. They go by themselves when they end. */
export function Notices() {
  const { documents, state } = useWatch(
    () =>
      notices
        .where(({ audience }) => where`${audience} IN ${['all', 'spectators']}`)
        .order("-meta('created')")
        .limit(4)
        .watch(),
    [],
  );
  return (
    <section aria-labelledby="notices-title">
      <h2 id="notices-title">Notices</h2>
      {state === 'loading' ? <p>Loading …</p> : documents.length === 0 && <p>Nothing to announce.</p>}
      <ul className="notices" aria-live="polite">
        {documents.map(({ id, data }) => (
          <li key={id} className={data.severity}>
            <b>{data.title}</b> {data.text}
          </li>
        ))}
      </ul>
    </section>
  );
}
