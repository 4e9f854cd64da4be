// Keeps a correct live copy of a query with the client for Node.js.
//
//   UPROAR_URL=http://127.0.0.1:4680 UPROAR_KEY=… node live.mjs 'balloons?limit=none'
//
// Prints the documents in order as a line of JSON after each change. Sends each line of its standard input, such as
// {"id":"c-1","writes":[{"merge":"balloons/bl-17","data":{"altitude":420}}]}, as a commit.
import { createInterface } from 'node:readline';
import { connect } from '@uproar/client';

const { UPROAR_URL, UPROAR_KEY, UPROAR_TRANSPORT } = process.env;
const [from, parameters] = process.argv[2].split('?');
const { limit = '500', ordered, ...parts } = Object.fromEntries(new URLSearchParams(parameters));
const query = { from, ...parts, limit: limit === 'none' ? 'none' : Number(limit) };

const store = connect(UPROAR_URL, { token: UPROAR_KEY, transport: UPROAR_TRANSPORT ?? 'auto' });

/** Ends the program with a problem of the store. */
function end({ title, detail }) {
  console.error(`${title} ${detail ?? ''}`);
  process.exit(1);
}

store.subscribe((state) => {
  if (state.name === 'refused') end(state.problem);
});
store.watch({ query }).subscribe(({ state, documents, error }) => {
  if (state === 'failed') end(error);
  else if (state !== 'loading') process.stdout.write(`${JSON.stringify(documents)}\n`);
});
createInterface({ input: process.stdin }).on('line', (line) => {
  store.commit(JSON.parse(line)).catch((error) => console.error(error.message));
});
