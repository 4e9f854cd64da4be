import { Worker } from 'node:worker_threads';

/**
 * A thread that works on the file of a store. It is asked to end, and never stopped in the middle of its work: SQLite
 * must finish what it has begun.
 */
export class StoreThread<Message> {
  readonly #worker: Worker;
  /** Set to 1 to make it end. */
  readonly #stop = new Int32Array(new SharedArrayBuffer(4));
  readonly #ended: Promise<void>;
  #onMessage: (message: Message) => void = () => undefined;
  #onEnd: (error: Error) => void = () => undefined;

  /**
   * @param script the file of the thread, beside this one
   * @param data its `workerData`; `stop` is added
   */
  constructor(script: string, data: Record<string, unknown>) {
    const workerData = { ...data, stop: this.#stop };
    // Options of the process, such as --input-type, are not meant for this script.
    this.#worker = new Worker(new URL(script, import.meta.url), { workerData, execArgv: [] });
    this.#worker.unref();
    let failure: Error | undefined;
    this.#worker.on('message', (message: Message) => this.#onMessage(message));
    this.#worker.on('error', (error) => (failure = error));
    this.#ended = new Promise((resolve) => {
      this.#worker.on('exit', () => {
        resolve();
        this.#onEnd(failure ?? new Error('The thread was ended.'));
      });
    });
  }

  /** @param onEnd called when it has ended, with the reason */
  listen(onMessage: (message: Message) => void, onEnd: (error: Error) => void): void {
    this.#onMessage = onMessage;
    this.#onEnd = onEnd;
  }

  /** Sends a message, and resolves with the answer. Rejects if it ends instead. */
  ask(message: unknown): Promise<Message> {
    return new Promise((resolve, reject) => {
      this.listen(resolve, reject);
      this.send(message);
    });
  }

  send(message: unknown): void {
    this.#worker.postMessage(message);
  }

  /** Makes it end. Resolves when it has. */
  end(): Promise<void> {
    // Until then the process must not end for lack of work.
    this.#worker.ref();
    Atomics.store(this.#stop, 0, 1);
    this.send('end');
    return this.#ended;
  }
}

/** In a thread: whether it is to end. */
export function isToEnd(stop: Int32Array): boolean {
  return Atomics.load(stop, 0) === 1;
}
