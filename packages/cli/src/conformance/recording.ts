import type { Writable } from 'node:stream';
import * as ws from 'ws';

/** So many bytes of one connection are kept; the middle of a longer one is left out. */
const KEPT_BYTES = 256 * 1024;
/** A line of a report has at most so many characters. */
const LINE_LENGTH = 240;

/** What passed on one connection, in order. */
export class Recording {
  readonly #chunks: { fromStore: boolean; bytes: Buffer }[] = [];
  #bytes = 0;
  #ended = false;

  /** @param number which connection it is, from 1 */
  constructor(readonly number: number) {}

  /** Records what the program sent. */
  sent(bytes: Buffer): void {
    this.#add(false, bytes);
  }

  /** Records what the program received. */
  received(bytes: Buffer): void {
    this.#add(true, bytes);
  }

  /** Records that the connection has ended. */
  end(): void {
    this.#ended = true;
  }

  /** The requests on this connection, with their headers. */
  get requests(): string[] {
    return this.#chunks
      .filter(({ fromStore }) => !fromStore)
      .map(({ bytes }) => bytes.toString('latin1'))
      .filter((text) => /^[A-Z]+ \/\S* HTTP\/1\.[01]\r\n/.test(text));
  }

  /** Whether the program asked to resume a watch on this connection. */
  get resumes(): boolean {
    return (
      this.requests.some((text) => /^last-event-id: *\S|^GET \S*[?&]resume=./im.test(text)) ||
      this.describe().some((line) => line.startsWith('→') && line.includes('"resume"'))
    );
  }

  /** Whether the program asked for a watch on this connection. */
  get watches(): boolean {
    return (
      this.requests.some((text) => /^accept: *text\/event-stream/im.test(text)) ||
      this.describe().some((line) => line.startsWith('→') && line.includes('"method":"watch"'))
    );
  }

  /** The exchange as lines: `→` is sent by the program, `←` by the store. */
  describe(): string[] {
    const lines: string[] = [];
    const frames = [new Frames(lines, '→', true), new Frames(lines, '←', false)] as const;
    let upgraded = false;
    for (const { fromStore, bytes } of this.#chunks) {
      const mark = fromStore ? '←' : '→';
      if (upgraded) {
        frames[fromStore ? 1 : 0].add(bytes);
        continue;
      }
      const text = bytes.toString();
      if (fromStore && text.startsWith('HTTP/1.1 101')) {
        upgraded = true;
        const end = bytes.indexOf('\r\n\r\n') + 4;
        lines.push(`${mark} HTTP/1.1 101 Switching Protocols`);
        frames[1].add(bytes.subarray(end));
        continue;
      }
      for (const line of text.split(/\r?\n/)) {
        // Sizes of chunks, and headers that say nothing about the matter, are left out.
        if (line === '' || /^[0-9a-f]{1,8}$/i.test(line) || HIDDEN_HEADERS.test(line)) continue;
        lines.push(`${mark} ${line.replace(/^(authorization: bearer ).*/i, '$1…')}`);
      }
    }
    if (this.#ended) lines.push('  connection closed');
    return lines.map((line) => (line.length > LINE_LENGTH ? `${line.slice(0, LINE_LENGTH)} …` : line));
  }

  #add(fromStore: boolean, bytes: Buffer): void {
    this.#chunks.push({ fromStore, bytes });
    this.#bytes += bytes.length;
    // The beginning, with the request, is kept.
    while (this.#bytes > KEPT_BYTES && this.#chunks.length > 4)
      this.#bytes -= this.#chunks.splice(3, 1)[0]!.bytes.length;
  }
}

const HIDDEN_HEADERS =
  /^(?:user-agent|accept-encoding|accept-language|connection|keep-alive|date|host|vary|sec-\w+|sec-websocket-\S+|cache-control|pragma|transfer-encoding|content-length|x-\S+|referrer-policy|content-security-policy|strict-transport-security|cross-origin-\S+|origin-\S+|permissions-policy|uproar-\S+|ratelimit\S*): /i;

/** The reader of frames of `ws`, which its types do not declare. */
const { Receiver } = ws as unknown as {
  Receiver: new (options: { isServer: boolean; allowSynchronousEvents: boolean }) => Writable;
};

/** Reads the messages of a WebSocket out of recorded bytes (RFC 6455). */
class Frames {
  readonly #receiver: Writable;

  constructor(lines: string[], mark: string, fromClient: boolean) {
    this.#receiver = new Receiver({ isServer: fromClient, allowSynchronousEvents: true });
    this.#receiver.on('message', (data: Buffer) =>
      lines.push(`${mark} ${data.toString().replace(/"token":"[^"]*"/, '"token":"…"')}`),
    );
    this.#receiver.on('conclude', (code: number) => lines.push(`${mark} close ${code}`));
    this.#receiver.on('error', () => undefined);
  }

  add(bytes: Buffer): void {
    // Reading unmasks the bytes in place.
    this.#receiver.write(Buffer.from(bytes));
  }
}
