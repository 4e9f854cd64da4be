import type { Writable } from 'node:stream';
import * as ws from 'ws';

/** So many lines of one connection are kept: the first ones, with the request, and the last ones. */
const FIRST_LINES = 40;
const LAST_LINES = 200;
/** A line has at most so many characters. */
const LINE_LENGTH = 240;
/** An unfinished line is kept up to this size, in bytes. */
const UNFINISHED_BYTES = 16 * 1024;

const START_LINE = /^(?:[A-Z]+ \/\S* HTTP\/1\.[01]|HTTP\/1\.[01] \d{3})/;
/** The headers that say something about an exchange. */
const SHOWN_HEADERS = /^(?:authorization|accept|content-type|last-event-id|retry-after|upgrade): /i;
/** The size of a chunk of a body (RFC 9112, section 7.1). */
const CHUNK_SIZE = /^[0-9a-f]{1,8}$/i;

/** What passed on one connection, as lines: `→` is sent by the program, `←` by the store. */
export class Recording {
  /** Whether the program asked for a watch on this connection. */
  watches = false;
  /** Whether it asked to resume one. */
  resumes = false;
  readonly #lines: string[] = [];
  readonly #program = new Direction(true, (line) => this.#note('→', line));
  readonly #store = new Direction(false, (line) => this.#note('←', line));

  /** @param number which connection it is, from 1 */
  constructor(readonly number: number) {}

  /** Records what the program sent. */
  sent(bytes: Buffer): void {
    this.#program.take(bytes);
  }

  /** Records what the program received. */
  received(bytes: Buffer): void {
    // The body of a request has no end of line.
    this.#program.flush();
    this.#store.take(bytes);
    if (this.#store.upgraded) this.#program.upgrade();
  }

  /** Records that the connection has ended. */
  end(): void {
    this.#add('  connection closed');
  }

  /** The exchange so far. */
  describe(): string[] {
    this.#program.flush();
    this.#store.flush();
    return this.#lines;
  }

  #note(mark: string, line: string): void {
    if (mark === '→') {
      this.watches ||= /^accept: *text\/event-stream|"method":"watch"/i.test(line);
      this.resumes ||= /^last-event-id: *\S|^GET \S*[?&]resume=.|"method":"watch".*"resume":/i.test(line);
    }
    const safe = line.replace(/^(authorization: bearer ).*/i, '$1…').replace(/"token":"[^"]*"/, '"token":"…"');
    this.#add(`${mark} ${safe}`);
  }

  #add(line: string): void {
    this.#lines.push(line.length > LINE_LENGTH ? `${line.slice(0, LINE_LENGTH)} …` : line);
    if (this.#lines.length > FIRST_LINES + LAST_LINES) this.#lines.splice(FIRST_LINES, 1);
  }
}

/** The reader of frames of `ws`, which its types do not declare. */
const { Receiver } = ws as unknown as {
  Receiver: new (options: { isServer: boolean; allowSynchronousEvents: boolean }) => Writable;
};

/** One direction of a connection: HTTP/1 (RFC 9112), and after an upgrade a WebSocket (RFC 6455). */
class Direction {
  upgraded = false;
  readonly #note: (line: string) => void;
  readonly #frames: Writable;
  #rest: Buffer = Buffer.alloc(0);
  #part: 'head' | 'body' = 'head';
  #upgrading = false;

  /** @param note called with each line and message */
  constructor(fromProgram: boolean, note: (line: string) => void) {
    this.#note = note;
    this.#frames = new Receiver({ isServer: fromProgram, allowSynchronousEvents: true });
    this.#frames.on('message', (data: Buffer) => note(data.toString()));
    this.#frames.on('conclude', (code: number) => note(`close ${code}`));
    this.#frames.on('error', () => undefined);
  }

  take(bytes: Buffer): void {
    if (this.#part === 'body' && START_LINE.test(bytes.toString('latin1', 0, 2000))) this.flush();
    let rest = Buffer.concat([this.#rest, bytes]);
    for (let end = rest.indexOf(10); end !== -1 && !this.upgraded; end = rest.indexOf(10)) {
      this.#takeLine(rest.toString('utf8', 0, end).replace(/\r$/, ''));
      rest = rest.subarray(end + 1);
    }
    this.#rest = rest.subarray(0, this.upgraded ? rest.length : UNFINISHED_BYTES);
    if (this.upgraded) this.upgrade();
  }

  /** From here on, the bytes are frames. */
  upgrade(): void {
    this.upgraded = true;
    // Reading unmasks the bytes in place.
    if (this.#rest.length > 0) this.#frames.write(Buffer.from(this.#rest));
    this.#rest = Buffer.alloc(0);
  }

  /** Notes a line that has no end yet, such as the body of a request. */
  flush(): void {
    if (this.upgraded || this.#rest.length === 0) return;
    const line = this.#rest.toString();
    this.#rest = Buffer.alloc(0);
    this.#takeLine(line);
  }

  #takeLine(line: string): void {
    if (START_LINE.test(line)) {
      this.#part = 'head';
      this.#upgrading = line.startsWith('HTTP/1.1 101');
      this.#note(line);
    } else if (this.#part === 'head') {
      if (SHOWN_HEADERS.test(line)) this.#note(line);
      else if (line === '') {
        this.#part = 'body';
        this.upgraded = this.#upgrading;
      }
    } else if (line !== '' && !CHUNK_SIZE.test(line)) this.#note(line);
  }
}
