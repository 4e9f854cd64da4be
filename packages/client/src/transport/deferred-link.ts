import type { ConnectionState, Link, LinkListener } from './link.js';

/** A failure to load is tried again after so long, in milliseconds. */
const LOAD_AGAIN_MS = 2000;

/** A link whose code is loaded when it is needed. Calls wait for it. */
export class DeferredLink implements Link {
  readonly keepsOrder = false;
  #link: Link | undefined;
  #state: ConnectionState = { name: 'connecting' };
  #waiting: ((link: Link) => void)[] = [];
  #timer: ReturnType<typeof setTimeout> | undefined;

  constructor(
    readonly load: (listener: LinkListener) => Promise<Link>,
    readonly listener: LinkListener,
  ) {
    void this.#load();
  }

  get state(): ConnectionState {
    return this.#link?.state ?? this.#state;
  }

  request: Link['request'] = (method, params, resolve, reject) =>
    this.#with((link) => link.request(method, params, resolve, reject));

  renew(): void {
    this.#with((link) => link.renew());
  }

  close(): void {
    clearTimeout(this.#timer);
    this.#state = { name: 'closed' };
    this.#with((link) => link.close());
    if (!this.#link) this.listener.stateChanged(this.#state);
  }

  #with(act: (link: Link) => void): void {
    if (this.#link) act(this.#link);
    else this.#waiting.push(act);
  }

  async #load(): Promise<void> {
    try {
      this.#link = await this.load(this.listener);
      for (const act of this.#waiting.splice(0)) act(this.#link);
    } catch (error) {
      if (this.#state.name === 'closed') return;
      this.#state = { name: 'offline', reason: (error as Error).message, retryInMs: LOAD_AGAIN_MS };
      this.listener.stateChanged(this.#state);
      this.#timer = setTimeout(() => void this.#load(), LOAD_AGAIN_MS);
    }
  }
}
