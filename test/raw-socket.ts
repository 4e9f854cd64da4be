import { once } from 'node:events';
import { WebSocket } from 'ws';
import { until } from './service.js';

/** A WebSocket that speaks JSON-RPC by hand, and keeps all it hears in order. */
export class RawSocket {
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  readonly heard: any[] = [];
  #id = 0;
  private constructor(readonly socket: WebSocket) {
    socket.on('message', (text) => this.heard.push(JSON.parse(String(text))));
  }
  static async open(service: { url: string }, headers?: Record<string, string>): Promise<RawSocket> {
    const socket = new WebSocket(`${service.url.replace('http', 'ws')}/v1/live`, { headers });
    await once(socket, 'open');
    return new RawSocket(socket);
  }
  send(method: string, params: unknown): number {
    const id = ++this.#id;
    this.socket.send(JSON.stringify({ jsonrpc: '2.0', id, method, params }));
    return id;
  }
  // eslint-disable-next-line @typescript-eslint/no-explicit-any
  async call(method: string, params: unknown): Promise<any> {
    const id = this.send(method, params);
    await until(`an answer to ${method}`, () => this.heard.some((message) => message.id === id));
    return this.heard.find((message) => message.id === id);
  }
}
