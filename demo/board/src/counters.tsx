import { useWatch } from '@uproar/react';
import { gates, stations } from './data.js';

/** The numbers of the day. */
export function Counters({ aloft }: { aloft: number | undefined }) {
  const visitors = useWatch(() => gates.summary('sum(visitors)').watch(), []);
  const windiest = useWatch(() => stations.order('-wind.gust').limit(1).watch(), []);
  const station = windiest.documents[0]?.data;
  return (
    <section className="counters" aria-label="Numbers">
      <Counter name="balloons aloft" value={aloft} />
      <Counter name="visitors today" value={visitors.documents[0]?.data['sum(visitors)'] as number | undefined} />
      <Counter name={`m/s gusts${station ? `, ${station.name}` : ''}`} value={station?.wind.gust} />
    </section>
  );
}

function Counter({ name, value }: { name: string; value: number | undefined }) {
  return (
    <p>
      <b>{value === undefined ? '–' : value.toLocaleString('en')}</b> {name}
    </p>
  );
}
