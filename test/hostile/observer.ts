import { connect, type Store } from '@uproar/client';

/** A request that takes longer is given up. */
const TIMEOUT_MS = 30_000;

/** The longest wait of other clients during the attack, in milliseconds. */
export interface Waits {
  health: number;
  read: number;
  longRead: number;
  watch: number;
}

/** Does what an ordinary client does, over and over, and notes how long each took at worst. */
export class Observer {
  readonly #url: string;
  readonly #key: string;
  readonly #store: Store;
  #ended = false;
  waits: Waits = { health: 0, read: 0, longRead: 0, watch: 0 };
  /** What went wrong. */
  readonly faults: string[] = [];
  #running: Promise<unknown> = Promise.resolve();

  constructor(url: string, key: string) {
    this.#url = url;
    this.#key = key;
    this.#store = connect(url, { token: key, outbox: false });
  }

  begin(): void {
    const headers = { authorization: `Bearer ${this.#key}` };
    const get = async (path: string) => {
      const response = await fetch(this.#url + path, { headers, signal: AbortSignal.timeout(TIMEOUT_MS) });
      await response.text();
      // 503 with Retry-After is a valid answer; writes get it while many are in flight.
      if (response.status >= 500 && response.status !== 503) throw new Error(`${path}: ${response.status}`);
    };
    let turn = 0;
    const pads = this.#store.collection('pads');
    let seen: (value: unknown) => void = () => undefined;
    pads.watch().subscribe(({ documents }) => seen(documents.find(({ id }) => id === 'p-1')?.data.turn));
    this.#running = Promise.all([
      this.#repeat('health', () => get('/healthz')),
      this.#repeat('read', () => get(`/v1/data/spectators/s-${turn % 1000}`)),
      this.#repeat('longRead', () => get("/v1/data/pads?where=name LIKE '%25zzz%25'&limit=10")),
      this.#repeat('watch', async () => {
        const value = ++turn;
        const arrived = new Promise<void>((resolve, reject) => {
          const timer = setTimeout(() => reject(new Error('a change did not arrive')), TIMEOUT_MS);
          seen = (now) => {
            if (now !== value) return;
            clearTimeout(timer);
            resolve();
          };
        });
        await Promise.all([pads.put('p-1', { turn: value }), arrived]);
      }),
    ]);
  }

  async end(): Promise<void> {
    this.#ended = true;
    await this.#running;
    this.#store.close();
  }

  async #repeat(name: keyof Waits, act: () => Promise<void>): Promise<void> {
    while (!this.#ended) {
      const started = performance.now();
      try {
        await act();
      } catch (error) {
        this.faults.push(`${name}: ${(error as Error).message}`);
      }
      this.waits[name] = Math.max(this.waits[name], performance.now() - started);
      await new Promise((resolve) => setTimeout(resolve, 50));
    }
  }
}
