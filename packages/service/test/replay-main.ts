/** Applies batches that come from the parent process, and answers each with a hash of the state. */
import { Replay } from './replay.js';

// Another clock, and other random values: what depends on them would differ.
const realNow = Date.now.bind(Date);
Date.now = () => realNow() + 40 * 365 * 86_400_000;
Math.random = () => 0.25;

const replay = new Replay();
process.on('message', (batch: string) => {
  replay.apply(batch);
  // Caches that live longer than a batch must not change the result.
  replay.state.reload();
  process.send!(replay.hash());
});
