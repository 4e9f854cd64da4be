import { StateText, type FullState } from './live-event.js';

/** The maximum length of the states that all views together keep for new watchers, in UTF-16 code units. */
const MAX_KEPT = 32 * 1024 * 1024;

/** A state longer than this, in UTF-16 code units, is kept for a limited time after its last use. */
const LARGE = 4 * 1024 * 1024;

/** That time, in milliseconds. */
const LARGE_KEPT_MS = 5000;

/** The length of the states that all views together keep. */
const kept = { characters: 0 };

/** The whole state of a view at a seq. */
export interface StateAt {
  readonly seq: number;
  readonly text: StateText;
}

/** A reading of the store that takes a while. Several watchers can wait for it. */
interface Reading {
  /** How often the view had changed when it began; undefined before it begins. */
  changes?: number;
  state: Promise<StateAt>;
}

/**
 * The whole state of a view, for its new watchers. All requests before the next change share one reading of the store.
 * Requests after that change wait, and share the next reading.
 */
export class SharedState {
  readonly #readSource: () => FullState | Promise<FullState>;
  readonly #isWatched: () => boolean;
  readonly #admit: (state: FullState) => boolean;
  /** How often something has happened that may have changed the state. */
  #changes = 0;
  /** A reading in progress, and the one that follows it. */
  #reading: Reading | undefined;
  #nextReading: Reading | undefined;
  /** The last state that was read; undefined after a change. */
  #kept: StateAt | undefined;
  #forgetting: NodeJS.Timeout | undefined;

  /**
   * @param readSource reads the state of the view
   * @param isWatched whether anyone watches the view
   * @param admit throws when a state is too large, and returns whether it may be kept for others
   */
  constructor(
    readSource: () => FullState | Promise<FullState>,
    isWatched: () => boolean,
    admit: (state: FullState) => boolean,
  ) {
    this.#readSource = readSource;
    this.#isWatched = isWatched;
    this.#admit = admit;
  }

  /**
   * The state, at `seq` or later.
   *
   * @param follows whether a kept state is valid at `seq`, although it was read at an earlier one
   * @throws what `admit` throws
   */
  at(seq: number, follows: boolean): StateAt | Promise<StateAt> {
    const last = this.#kept;
    if (!last || !(follows || last.seq === seq)) return this.#read();
    this.#forgetting?.refresh();
    return { seq, text: last.text };
  }

  /** Drops the kept state. Call it when the state may have changed, and when the last watcher has left. */
  changed(): void {
    this.#changes++;
    this.#forget();
  }

  #read(): StateAt | Promise<StateAt> {
    const present = this.#reading;
    if (present?.changes === this.#changes) return present.state;
    if (present) return (this.#nextReading ??= this.#readAfter(present)).state;
    const changes = this.#changes;
    const state = this.#readSource();
    if (!(state instanceof Promise)) return this.#take(state, changes);
    this.#reading = { changes, state: state.then((found) => this.#take(found, changes)) };
    this.#endWith(this.#reading);
    return this.#reading.state;
  }

  #readAfter(present: Reading): Reading {
    const next: Reading = {
      state: present.state
        .catch(() => undefined)
        .then(async () => {
          this.#reading = next;
          this.#nextReading = undefined;
          if (!this.#isWatched()) throw new Error('The watch has ended.');
          const changes = (next.changes = this.#changes);
          return this.#take(await this.#readSource(), changes);
        }),
    };
    this.#endWith(next);
    return next;
  }

  #endWith(reading: Reading): void {
    const end = () => {
      if (this.#reading === reading) this.#reading = undefined;
    };
    reading.state.then(end, end);
  }

  /** @param changes how often the view had changed when the state was read */
  #take(state: FullState, changes: number): StateAt {
    const mayKeep = this.#admit(state) && changes === this.#changes && this.#isWatched();
    const taken = { seq: state.seq, text: new StateText(state) };
    if (mayKeep) this.#keep(taken);
    return taken;
  }

  #keep(state: StateAt): void {
    this.#forget();
    const { length } = state.text.text;
    if (kept.characters + length > MAX_KEPT) return;
    kept.characters += length;
    this.#kept = state;
    if (length > LARGE) this.#forgetting = setTimeout(() => this.#forget(), LARGE_KEPT_MS).unref();
  }

  #forget(): void {
    clearTimeout(this.#forgetting);
    this.#forgetting = undefined;
    kept.characters -= this.#kept?.text.text.length ?? 0;
    this.#kept = undefined;
  }
}
