import type { TypedDocument } from '@uproar/client';
import { memo, useState } from 'react';
import type { Balloon } from './data.js';

type Shown = TypedDocument<Partial<Balloon>>;

/** The field of the festival, in degrees: longitude from west to east, latitude from south to north. */
const FIELD = { west: -0.24, east: 0.24, south: -0.18, north: 0.18 };
/** Units of the drawing for a degree. */
const SCALE = 2000;
const WIDTH = (FIELD.east - FIELD.west) * SCALE;
const HEIGHT = (FIELD.north - FIELD.south) * SCALE;
/** A degree is about this long near the equator, in kilometres. */
const DEGREE_KM = 111.3;
/** The distance of lines of the grid, in degrees. */
const GRID = 0.06;
/** So many balloons are named: the highest. */
const NAMED = 5;
/** Heights are shown by colour up to this one, in metres. */
const HIGH_METRES = 2000;

/** The balloons on a map. Each moves smoothly to where its tracker has reported it. */
export function BalloonMap({ balloons, loading }: { balloons: readonly Shown[]; loading: boolean }) {
  const [picked, pick] = useState<string>();
  const highest = balloons.slice(0, NAMED);
  const named = new Set([...highest.map(({ id }) => id), picked]);
  return (
    <section className="map" aria-labelledby="map-title">
      <h2 id="map-title">Aloft now</h2>
      <svg viewBox={`0 0 ${WIDTH} ${HEIGHT}`} role="img" aria-label={describe(balloons)}>
        <Grid />
        {balloons.map((balloon) => (
          <Mark key={balloon.id} balloon={balloon} named={named.has(balloon.id)} pick={pick} />
        ))}
      </svg>
      {loading ? <p>Loading …</p> : balloons.length === 0 && <p>No balloon is aloft.</p>}
      <p className="key">The larger, the higher. The highest:</p>
      <ol className="highest" aria-label="The highest balloons">
        {highest.map(({ id, data }) => (
          <li key={id}>
            <span>{data.name}</span> <span>{data.altitude} m</span>
          </li>
        ))}
      </ol>
    </section>
  );
}

function describe([highest, ...others]: readonly Shown[]): string {
  if (!highest) return 'Map: no balloon is aloft.';
  const { name, altitude } = highest.data;
  return `Map of ${others.length + 1} balloons aloft. The highest is ${name}, at ${altitude} metres.`;
}

/** One balloon. It is drawn again only when its document has changed. */
const Mark = memo(function Mark(given: { balloon: Shown; named: boolean; pick: (id: string | undefined) => void }) {
  const { balloon, named, pick } = given;
  const { name, altitude = 0, position } = balloon.data;
  if (!position) return null;
  const [longitude, latitude] = position.coordinates;
  const x = (longitude - FIELD.west) * SCALE;
  const y = (FIELD.north - latitude) * SCALE;
  const height = Math.min(1, altitude / HIGH_METRES);
  // Names stay within the map.
  const left = x > WIDTH * 0.8;
  return (
    <g
      className="balloon"
      style={{ transform: `translate(${x}px, ${y}px)` }}
      onPointerEnter={() => pick(balloon.id)}
      onPointerLeave={() => pick(undefined)}
    >
      <title>{`${name}, ${altitude} m`}</title>
      <circle r={4 + 7 * height} style={{ fillOpacity: 0.35 + 0.6 * height }} />
      {named && (
        <text x={left ? -14 : 14} y={5} textAnchor={left ? 'end' : 'start'}>
          {name}
        </text>
      )}
    </g>
  );
});

/** Lines of equal longitude and latitude, and a scale bar. */
const Grid = memo(function Grid() {
  const columns = Array.from({ length: Math.round((FIELD.east - FIELD.west) / GRID) - 1 }, (_, n) => (n + 1) * GRID);
  const rows = Array.from({ length: Math.round((FIELD.north - FIELD.south) / GRID) - 1 }, (_, n) => (n + 1) * GRID);
  const barKm = 5;
  const bar = (barKm / DEGREE_KM) * SCALE;
  return (
    <g className="grid" aria-hidden="true">
      {columns.map((at) => (
        <line key={`x${at}`} x1={at * SCALE} x2={at * SCALE} y1={0} y2={HEIGHT} />
      ))}
      {rows.map((at) => (
        <line key={`y${at}`} y1={at * SCALE} y2={at * SCALE} x1={0} x2={WIDTH} />
      ))}
      <path d={`M20 ${HEIGHT - 26} v8 h${bar} v-8`} />
      <text x={20 + bar + 10} y={HEIGHT - 16}>
        {barKm} km
      </text>
    </g>
  );
});
