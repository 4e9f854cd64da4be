import { randomUUID } from 'node:crypto';
import { STATUS_CODES, type IncomingMessage, type Server } from 'node:http';
import type { Duplex } from 'node:stream';
import { createProblem, ProblemError, type Problem } from '@uproar/protocol';
import { WebSocketServer, type WebSocket } from 'ws';
import { auditFailure, auditRefusal, readBearer } from '../requests/credentials.js';
import type { Context } from '../requests/context.js';
import type { Identity } from '../identity/identity.js';
import { frameAlive, tellStaleness } from './alive.js';
import { asksForWebSocket, ignoreUpgrade } from './ignore-upgrade.js';
import { ENVELOPE_BYTES } from '../requests/parse-body.js';
import { LIVE_PATH, SocketSession, type SessionParts } from './socket-session.js';

/** A connection that leaves so many pings unanswered is closed. */
const MAX_UNANSWERED = 2;

/** Close code of a service that is too busy (RFC 6455, section 7.4.1, and its registry). */
const TRY_LATER = 1013;

/**
 * Takes WebSocket connections (RFC 6455) at {@link LIVE_PATH}.
 *
 * @param addressOf finds the client address of a request
 * @returns a function that asks all connections to close, and returns a function that terminates the remaining ones
 */
export function serveSockets(
  server: Server,
  context: SessionParts & Pick<Context, 'originPolicy' | 'heartbeatMs'>,
  addressOf: (request: IncomingMessage) => string,
): () => () => void {
  const sockets = new WebSocketServer({
    noServer: true,
    // A message that is too large is accepted up to twice the limit, so that it can be answered.
    maxPayload: 2 * context.commitLimits.sizeBytes + ENVELOPE_BYTES,
    perMessageDeflate: false,
  });
  const sessions = new Map<WebSocket, SocketSession>();
  const unanswered = new WeakMap<WebSocket, number>();

  // As {@link endSocket}, it does not hold the request.
  const begin = (webSocket: WebSocket, stream: Duplex, identity: Identity | undefined, origin: Origin) => {
    try {
      sessions.set(webSocket, new SocketSession(context, webSocket, stream, identity, origin));
    } catch (error) {
      webSocket.close(TRY_LATER, (error as ProblemError).problem.title);
      return;
    }
    webSocket.on('pong', () => unanswered.delete(webSocket));
    webSocket.on('close', () => sessions.delete(webSocket));
  };

  server.on('upgrade', (request: IncomingMessage, socket: Duplex, head: Buffer) => {
    if (!asksForWebSocket(request)) return ignoreUpgrade(server, request, socket, head);
    socket.on('error', endSocket);
    const path = request.url?.split('?')[0];
    if (path !== LIVE_PATH) {
      refuseUpgrade(socket, createProblem('no-such-route', `WebSockets are served at ${LIVE_PATH}.`));
      return;
    }
    const origin = originOf(request, addressOf);
    void authenticate(request, context, origin.address).then(
      (identity) =>
        sockets.handleUpgrade(request, socket, head, (webSocket) => begin(webSocket, socket, identity, origin)),
      (error: unknown) => {
        const problem =
          error instanceof ProblemError
            ? error.problem
            : createProblem('internal', 'The service failed to accept the connection.');
        if (problem.status !== 401) {
          const from = { ip: origin.address, id: origin.request };
          auditRefusal(context.identities.audit, problem, 'unknown', from, LIVE_PATH);
        }
        refuseUpgrade(socket, problem);
      },
    );
  });

  const { cluster } = context;
  const aliveFrame = () => frameAlive(context.store.log.seq, cluster);
  const stopTelling =
    cluster &&
    tellStaleness(cluster, () => {
      const alive = aliveFrame();
      for (const session of sessions.values()) session.sendAlive(alive);
    });

  const heartbeat = setInterval(() => {
    const alive = aliveFrame();
    for (const [webSocket, session] of sessions) {
      // Nothing is read from a full connection. It ends when it does not read.
      if (session.full) unanswered.delete(webSocket);
      const pings = unanswered.get(webSocket) ?? 0;
      if (pings === MAX_UNANSWERED) {
        webSocket.terminate();
        continue;
      }
      unanswered.set(webSocket, pings + 1);
      webSocket.ping();
      session.sendAlive(alive);
    }
  }, context.heartbeatMs);

  return () => {
    clearInterval(heartbeat);
    stopTelling?.();
    const problem = createProblem('stopping', 'The service is stopping. Connect again in a moment.');
    for (const session of sessions.values()) session.end(problem);
    sockets.close();
    return () => {
      for (const webSocket of sessions.keys()) webSocket.terminate();
    };
  };
}

/** A listener of its own, since one that is made for a request holds that for as long as the connection lasts. */
function endSocket(this: Duplex): void {
  this.destroy();
}

/** Where a connection comes from: its address, the id of its request, and the program. */
type Origin = SocketSession['origin'];

/** A random id, as one flat text: that of `randomUUID` consists of fifteen parts as long as it lives. */
function newRequestId(): string {
  return Buffer.from(randomUUID(), 'latin1').toString('latin1');
}

function originOf(request: IncomingMessage, addressOf: (request: IncomingMessage) => string): Origin {
  const agent = request.headers['user-agent']?.slice(0, 300);
  return { address: addressOf(request), request: newRequestId(), agent };
}

/** A key may come with the request itself; otherwise `hello` brings it. Pages of other sites are sent away. */
async function authenticate(
  request: IncomingMessage,
  context: Pick<Context, 'identities' | 'rates' | 'originPolicy'>,
  address: string,
): Promise<Identity | undefined> {
  const { identities, originPolicy, rates } = context;
  originPolicy.checkOrigin(request.headers);
  await rates.checkFailures(address);
  const secret = readBearer(request.headers.authorization);
  if (secret === undefined) {
    // During the open period, a caller without a key could be any page.
    if (identities.openUntilMs() !== undefined) originPolicy.checkHost(request.headers);
    return undefined;
  }
  try {
    return await identities.identify(secret);
  } catch (error) {
    await auditFailure(context, error, address, randomUUID());
    throw error;
  }
}

function refuseUpgrade(socket: Duplex, problem: Problem): void {
  const body = JSON.stringify(problem);
  const reason = STATUS_CODES[problem.status] ?? 'Refused';
  socket.end(
    `HTTP/1.1 ${problem.status} ${reason}\r\nContent-Type: application/problem+json\r\n` +
      `Content-Length: ${Buffer.byteLength(body)}\r\nConnection: close\r\n\r\n${body}`,
  );
}
