/** Applies batches that come from the parent process, and answers each with a hash of the state. */
import { Replay } from './replay.js';

// Another clock, and other random values: what depends on them would differ.
const realNow = Date.now.bind(Date);
Date.now = () => realNow() + 40 * 365 * 86_400_000;
Math.random = () => 0.25;

const replay = new Replay();
process.on('message', (batch: string) => {
  replay.apply(batch);
  // Nothing that is held in memory from one batch to the next may make a difference.
  replay.state.reload();
  process.send!(replay.hash());
});
