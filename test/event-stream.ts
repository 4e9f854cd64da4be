import { get } from 'node:http';
import jsonPatch from 'fast-json-patch';
import { KEY } from './service.js';

/** One event of an event stream, its data parsed. */
export interface StreamEvent {
  event: string;
  id: string | undefined;
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  data: any;
}

/**
 * Reads a watch over plain HTTP, as a program without the client would: it splits the stream into events and applies
 * the patches with a JSON Patch package.
 */
export class StreamReader {
  readonly events: StreamEvent[] = [];
  /** The copy of the watch's state. */
  state: Record<string, unknown> = {};
  /** The ids in order, where the watch carries them. */
  ids: string[] = [];
  seq = 0;
  lastEventId: string | undefined;
  comments = 0;
  ended = false;
  readonly #abort: AbortController;

  private constructor(
    readonly response: Response,
    abort: AbortController,
  ) {
    this.#abort = abort;
  }

  /** Opens a watch; with `earlier`, goes on from the copy that another reader has made. Without a key none is sent. */
  static async open(url: string, earlier?: StreamReader, key: string | null = KEY): Promise<StreamReader> {
    const headers: Record<string, string> = { accept: 'text/event-stream' };
    if (key !== null) headers.authorization = `Bearer ${key}`;
    if (earlier?.lastEventId !== undefined) headers['last-event-id'] = earlier.lastEventId;
    const abort = new AbortController();
    const response = await fetch(url, { headers, signal: abort.signal });
    const reader = new StreamReader(response, abort);
    if (earlier) [reader.state, reader.ids] = [earlier.state, earlier.ids];
    void reader.#read();
    return reader;
  }

  /** Makes a request whose answer is left unread. Returns what ends it. */
  static pausedRequest(url: string, path: string, headers: Record<string, string>): Promise<() => void> {
    return new Promise((resolve, reject) => {
      const request = get(new URL(path, url), { headers, agent: false }, (response) => {
        response.pause().on('error', () => undefined);
        resolve(() => request.destroy());
      });
      request.on('error', reject);
    });
  }

  close(): void {
    this.#abort.abort();
  }

  async #read(): Promise<void> {
    const decoder = new TextDecoder();
    let text = '';
    try {
      for await (const chunk of this.response.body!) {
        text += decoder.decode(chunk as Uint8Array, { stream: true });
        for (let end = text.indexOf('\n\n'); end !== -1; end = text.indexOf('\n\n')) {
          this.#take(text.slice(0, end));
          text = text.slice(end + 2);
        }
      }
    } catch (error) {
      if (!this.#abort.signal.aborted && !(error instanceof TypeError)) throw error;
    }
    this.ended = true;
  }

  #take(block: string): void {
    const fields = new Map<string, string>();
    for (const line of block.split('\n')) {
      if (line.startsWith(':')) this.comments++;
      else fields.set(line.slice(0, line.indexOf(':')), line.slice(line.indexOf(':') + 2));
    }
    this.lastEventId = fields.get('id') ?? this.lastEventId;
    const data = fields.get('data');
    if (data === undefined) return;
    const event = {
      event: fields.get('event') ?? 'message',
      id: fields.get('id'),
      data: JSON.parse(data) as StreamEvent['data'],
    };
    this.events.push(event);
    if (event.event === 'result' || event.event === 'reset') {
      const documents = event.data.documents as { id: string }[];
      this.state = Object.fromEntries(documents.map((document) => [document.id, document]));
      this.ids = documents.map(({ id }) => id);
      this.seq = event.data.seq as number;
    } else if (event.event === 'change') {
      const ordered = /[?&]ordered=true/.test(this.response.url);
      const state = ordered ? { documents: this.state, ids: this.ids } : this.state;
      const patched = jsonPatch.applyPatch(state, event.data.patch as never, true, false).newDocument;
      if (ordered) ({ documents: this.state, ids: this.ids } = patched as never);
      else this.state = patched as Record<string, unknown>;
      this.seq = event.data.seq as number;
    }
  }
}
