import type { IncomingMessage, Server } from 'node:http';
import type { Duplex } from 'node:stream';
import { TLSSocket } from 'node:tls';

/** Header fields that belong to an upgrade of a connection (RFC 9110, section 7.8; RFC 7540, section 3.2.1). */
const OF_UPGRADES = ['upgrade', 'http2-settings'];

/** Whether a request asks for a WebSocket (RFC 6455, section 4.1), and not for another protocol. */
export function asksForWebSocket({ headers }: IncomingMessage): boolean {
  return (headers.upgrade ?? '').split(',').some((protocol) => protocol.trim().toLowerCase() === 'websocket');
}

/**
 * Answers a request as if it did not ask for another protocol, as a server may (RFC 9110, section 7.8). Some clients, such as
 * the one of Java, offer HTTP/2 in this way with their first request. The server reads the request once more, without that
 * offer, from the same socket.
 */
export function ignoreUpgrade(server: Server, request: IncomingMessage, socket: Duplex, head: Buffer): void {
  const lines = [`${request.method} ${request.url} HTTP/${request.httpVersion}`];
  for (let at = 0; at < request.rawHeaders.length; at += 2) {
    const [name, value] = [request.rawHeaders[at]!, request.rawHeaders[at + 1]!];
    const lower = name.toLowerCase();
    if (OF_UPGRADES.includes(lower)) continue;
    const kept = lower === 'connection' ? withoutUpgrade(value) : value;
    if (kept !== '') lines.push(`${name}: ${kept}`);
  }
  socket.unshift(Buffer.concat([Buffer.from(`${lines.join('\r\n')}\r\n\r\n`, 'latin1'), head]));
  server.emit(socket instanceof TLSSocket ? 'secureConnection' : 'connection', socket);
}

/** The members of a `Connection` field that name no part of the upgrade. */
function withoutUpgrade(value: string): string {
  const members = value.split(',').map((member) => member.trim());
  return members.filter((member) => !OF_UPGRADES.includes(member.toLowerCase())).join(', ');
}
