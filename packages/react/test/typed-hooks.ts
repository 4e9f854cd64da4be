// Compiled, not run: what the hooks know of a store that was connected with the schemas of its collections.
import { connect } from '@uproar/client';
import { PreparedWatch, useConnection, useDocument, usePending, usePreparedWatch, useWatch } from '@uproar/react';
import { z } from 'zod';

const Crew = z.object({ name: z.string() });
const Balloon = z.object({ name: z.string(), crewId: z.string() });
const store = connect('http://127.0.0.1:4680', { collections: { crews: Crew, balloons: Balloon } });
const withCrew = () =>
  store
    .collection('balloons')
    .include({ crew: { from: 'crews', via: 'crewId' } })
    .watch();

/** The names of the first crew, by each hook. */
export function useNames(): (string | undefined)[] {
  const { documents } = useWatch(withCrew, []);
  const prepared = usePreparedWatch(new PreparedWatch(withCrew));
  const one = useDocument(store.collection('crews'), 'c-1');
  const state: string = useConnection(store).name;
  const waiting: number = usePending(store);
  // @ts-expect-error: nothing of that name is included
  const pilot = documents[0]?.related?.pilot;
  return [
    documents[0]?.related?.crew?.data.name,
    prepared.documents[0]?.related?.crew?.data.name,
    one.document?.data.name,
    state,
    String(waiting),
    String(pilot),
  ];
}
