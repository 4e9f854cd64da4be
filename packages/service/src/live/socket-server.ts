import type { IncomingMessage, Server } from 'node:http';
import type { Duplex } from 'node:stream';
import { createProblem, type Problem, type ProblemError } from '@uproar/protocol';
import { WebSocketServer, type WebSocket } from 'ws';
import { identifyKey } from '../http/authenticate.js';
import type { Context } from '../http/context.js';
import type { Identity } from '../identity/keys.js';
import { frameText } from './frame.js';
import { SocketSession } from './socket-session.js';

/** The address of the WebSocket. */
export const LIVE_PATH = '/v1/live';

/**
 * Takes WebSocket connections (RFC 6455) at {@link LIVE_PATH}.
 *
 * @returns asks all connections to close, and returns what cuts off those that do not
 */
export function serveSockets(server: Server, context: Context): () => () => void {
  const sockets = new WebSocketServer({
    noServer: true,
    maxPayload: context.commitLimits.sizeBytes,
    perMessageDeflate: false,
  });
  const sessions = new Map<WebSocket, SocketSession>();
  const answered = new WeakSet<WebSocket>();

  server.on('upgrade', (request: IncomingMessage, socket: Duplex, head: Buffer) => {
    socket.on('error', () => socket.destroy());
    const path = request.url?.split('?')[0];
    if (path !== LIVE_PATH) {
      refuseUpgrade(socket, createProblem('no-such-route', `WebSockets are served at ${LIVE_PATH}.`));
      return;
    }
    let identity: Identity | undefined;
    try {
      identity = identityFrom(request, context);
    } catch (error) {
      refuseUpgrade(socket, (error as ProblemError).problem);
      return;
    }
    sockets.handleUpgrade(request, socket, head, (webSocket) => {
      sessions.set(webSocket, new SocketSession(context, webSocket, socket, identity));
      answered.add(webSocket);
      webSocket.on('pong', () => answered.add(webSocket));
      webSocket.on('close', () => sessions.delete(webSocket));
    });
  });

  const heartbeat = setInterval(() => {
    const alive = frameText(
      Buffer.from(`{"jsonrpc":"2.0","method":"alive","params":{"seq":${context.store.log.seq}}}`),
    );
    for (const [webSocket, session] of sessions) {
      if (!answered.delete(webSocket)) {
        webSocket.terminate();
        continue;
      }
      webSocket.ping();
      session.sendAlive(alive);
    }
  }, context.heartbeatMs);

  return () => {
    clearInterval(heartbeat);
    const problem = createProblem('stopping', 'The service is stopping. Connect again in a moment.');
    for (const session of sessions.values()) session.end(problem);
    sockets.close();
    return () => {
      for (const webSocket of sessions.keys()) webSocket.terminate();
    };
  };
}

/** A key may come with the request itself; otherwise `hello` brings it. */
function identityFrom(request: IncomingMessage, { keys }: Context): Identity | undefined {
  const key = /^Bearer +(\S+)$/i.exec(request.headers.authorization ?? '')?.[1];
  return key === undefined ? undefined : identifyKey(keys, key);
}

function refuseUpgrade(socket: Duplex, problem: Problem): void {
  const body = JSON.stringify(problem);
  const reason = problem.status === 401 ? 'Unauthorized' : 'Not Found';
  socket.end(
    `HTTP/1.1 ${problem.status} ${reason}\r\nContent-Type: application/problem+json\r\n` +
      `Content-Length: ${Buffer.byteLength(body)}\r\nConnection: close\r\n\r\n${body}`,
  );
}
