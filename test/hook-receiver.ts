import { createServer, type IncomingMessage, type Server, type ServerResponse } from 'node:http';
import type { AddressInfo } from 'node:net';

/** A request as a receiver got it. */
export interface Received {
  headers: Record<string, string>;
  body: string;
  event: { id: string; type: string; subject?: string; seq: number; data: never };
}

/** Answers a delivery. */
export type Answering = (received: Received, response: ServerResponse) => void;

/** A server that hooks deliver to. */
export class HookReceiver {
  readonly received: Received[] = [];
  answer: Answering = (_received, response) => response.writeHead(204).end();

  private constructor(private readonly server: Server) {}

  static async start(): Promise<HookReceiver> {
    const server = createServer();
    const receiver = new HookReceiver(server);
    server.on('request', (request, response) => void receiver.#take(request, response));
    await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
    return receiver;
  }

  get url(): string {
    return `http://127.0.0.1:${(this.server.address() as AddressInfo).port}/changes`;
  }

  get subjects(): string[] {
    return this.received.map(({ event }) => `${event.seq} ${event.subject}`);
  }

  async #take(request: IncomingMessage, response: ServerResponse): Promise<void> {
    let body = '';
    for await (const chunk of request) body += String(chunk);
    const headers = request.headers as Record<string, string>;
    const structured = headers['content-type']!.startsWith('application/cloudevents');
    const value = JSON.parse(body) as Received['event'];
    const event = structured
      ? value
      : {
          id: headers['ce-id']!,
          type: headers['ce-type']!,
          subject: headers['ce-subject'],
          seq: Number(headers['ce-seq']),
          data: value as never,
        };
    const received = { headers, body, event: event as Received['event'] };
    this.received.push(received);
    this.answer(received, response);
  }

  stop(): void {
    this.server.closeAllConnections();
    this.server.close();
  }
}
