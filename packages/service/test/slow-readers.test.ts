import type { Writable } from 'node:stream';
import { expect } from 'chai';
import * as ws from 'ws';
import { StreamReader } from '../../../test/event-stream.js';
import { HostileLink } from '../../../test/hostile-link.js';
import { RawSocket } from '../../../test/raw-socket.js';
import { KEY, TestService, until } from '../../../test/service.js';
import { PIECE_BYTES } from '../dist/requests/paced-writer.js';
import { frameAround, frameMiddle, frameText } from '../dist/websocket/frame.js';

const DOCUMENTS = 100;
const TEXT = 'ä'.repeat(100_000);

/** One result, much larger than what Linux keeps for a connection, and slow enough to take longer than any limit. */
const BYTES = DOCUMENTS * 2 * TEXT.length;
const BYTES_PER_SECOND = BYTES / 8;

/** A control frame without a body (RFC 6455, section 5.5.2). */
const PING = Buffer.from([0x89, 0]);

/** `ws` exports what parses frames, but its type declarations leave it out. */
const { Receiver } = ws as unknown as { Receiver: new (options: object) => Writable };

const HEADERS = { authorization: `Bearer ${KEY}` };

describe('a reader on a slow link', () => {
  let service: TestService;
  let link: HostileLink;

  before(async () => {
    service = await TestService.start({
      heartbeatMs: 500,
      budgets: { resultBytes: 2 * BYTES, unreadMs: 1500, identityBytes: 4 * BYTES, processBytes: 4 * BYTES },
    });
    for (let n = 0; n < DOCUMENTS; n++) await service.request('PUT', `/v1/data/films/f-${n}`, { text: TEXT });
    link = await HostileLink.start(service.url);
  });

  beforeEach(() => (link.bytesPerSecond = BYTES_PER_SECOND));

  after(async () => {
    await link.stop();
    await service.stop();
  });

  it('gets a large result whole over a WebSocket, over an event stream and in a response', async () => {
    const socket = await RawSocket.open(link, HEADERS);
    let pings = 0;
    socket.socket.on('ping', () => pings++);
    const watch = socket.call('watch', { query: { from: 'films', limit: 'none' } });
    const get = socket.call('get', { doc: 'films/f-1' });
    const stream = StreamReader.open(`${link.url}/v1/data/films?limit=none`);
    const listing = fetch(`${link.url}/v1/data/films?limit=1000`, { headers: HEADERS });
    expect((await watch).result.documents).to.have.length(DOCUMENTS);
    expect((await get).result.id).to.equal('f-1');
    expect(pings, 'it was asked whether it is still there in the middle of the result').to.be.above(4);
    socket.socket.close();
    const reader = await stream;
    await until('the result over the event stream', () => reader.events.length > 0);
    expect(Object.keys(reader.state)).to.have.length(DOCUMENTS);
    reader.close();
    const { documents } = (await (await listing).json()) as { documents: unknown[] };
    expect(documents).to.have.length(DOCUMENTS);
  });

  it('gets the size of a large response for HEAD, and nothing else', async () => {
    const path = '/v1/data/films?limit=1000';
    const [head, { headers, text }] = await Promise.all([service.request('HEAD', path), service.request('GET', path)]);
    expect(head).to.include({ status: 200, text: '' });
    expect(Number(head.headers.get('content-length'))).to.equal(Buffer.byteLength(text));
    expect(headers.get('content-length')).to.equal(head.headers.get('content-length'));
  });

  it('is not refused what it shares with others, and is not closed for it', async () => {
    // Each with a copy of its own would be more than the service may hold.
    const sockets = await Promise.all(Array.from({ length: 6 }, () => RawSocket.open(link, HEADERS)));
    const watches = sockets.map((socket) => socket.call('watch', { query: { from: 'films', limit: 'none' } }));
    let most = 0;
    const sampling = setInterval(async () => {
      const { json } = await service.request('GET', '/v1/metrics/samples');
      most = Math.max(most, json.budgets.heldBytes as number);
    }, 300);
    for (const { result } of await Promise.all(watches)) expect(result.documents).to.have.length(DOCUMENTS);
    clearInterval(sampling);
    expect(most).to.be.within(BYTES / 2, 2 * BYTES);
    for (const { socket } of sockets) socket.close();
  });

  it('is refused or closed when what it alone leaves unread is too much', async () => {
    const sockets = await Promise.all(Array.from({ length: 12 }, () => RawSocket.open(link, HEADERS)));
    const held = async () => (await service.request('GET', '/v1/metrics/samples')).json.budgets;
    const before = (await held()).ended['too-much-unread'];
    link.bytesPerSecond = 100_000;
    sockets.forEach((socket, n) =>
      socket.send('watch', { query: { from: 'films', where: `text <> 'nothing ${n}'`, limit: 'none' } }),
    );
    await until('some are closed', async () => (await held()).ended['too-much-unread'] > before);
    await until('what is held is within the limit', async () => (await held()).heldBytes <= 4 * BYTES);
    for (const { socket } of sockets) socket.terminate();
  });
});

describe('a text in WebSocket frames', () => {
  it('is the same text for who receives it, of any length', async () => {
    const lengths = [0, 1, 125, 126, 65_531, 65_532, 65_533, 131_063, 131_064, 131_065, 1_000_000];
    const texts = lengths.flatMap((length) => ['x'.repeat(length), 'xä'.repeat(length / 3) + '€']);
    const messages = texts.map((text) => [frameText(text)]);
    for (const before of [...texts.slice(0, 8), texts.at(-1)!]) {
      for (const middle of texts) {
        messages.push(frameAround(before, frameMiddle(middle), '}'));
        texts.push(`${before}${middle}}`);
        if (texts.length > 150) break;
      }
    }
    const received: string[] = [];
    const receiver = new Receiver({ isServer: false, maxPayload: 0 });
    receiver.on('message', (data: Buffer) => received.push(String(data)));
    for (const frames of messages.flat()) {
      for (let at = 0; at < frames.length; at += PIECE_BYTES) {
        const piece = frames.subarray(at, at + PIECE_BYTES);
        await new Promise((resolve) => receiver.write(piece, resolve));
        // Another frame may come after each piece.
        await new Promise((resolve) => receiver.write(PING, resolve));
      }
    }
    await until('all texts', () => received.length === texts.length);
    expect(received.every((text, n) => text === texts[n])).to.equal(true);
  });
});
