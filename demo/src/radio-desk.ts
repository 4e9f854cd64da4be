import { createServer, type IncomingMessage } from 'node:http';
import type { AddressInfo } from 'node:net';
import { isProblem, type Store } from '@uproar/client';
import { Webhook } from 'standardwebhooks';

/** Sometimes the desk does not take a landing, and hears of it again. */
const BUSY = 0.05;

const HOOK = 'landings';

/**
 * The radio desk: a server of its own, which hears of landings by a hook. It keeps no connection to the store.
 */
export async function runRadioDesk(store: Store): Promise<void> {
  let secret: string | undefined;
  const server = createServer((request, response) => {
    void readBody(request).then((body) => {
      const headers = request.headers as Record<string, string>;
      if (secret === undefined || !isSigned(secret, body, headers)) response.writeHead(401).end('unknown signature');
      else if (Math.random() < BUSY) response.writeHead(503).end('the desk is busy');
      else response.writeHead(200).end('heard');
    });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  const url = `http://127.0.0.1:${(server.address() as AddressInfo).port}/landings`;
  try {
    const hook = { name: HOOK, collection: 'balloons', where: "status = 'landed'", kinds: ['updated'], url };
    ({ secret } = await store.post<{ secret: string }>('/v1/hooks', hook));
  } catch (error) {
    if (!isProblem(error, 'hook-exists')) throw error;
    // The desk of an earlier run had another port, and took its secret with it.
    ({ secret } = await store.post<{ secret: string }>(`/v1/hooks/${HOOK}/rotate`, { keepOldSeconds: 0 }));
    await store.request('PATCH', `/v1/hooks/${HOOK}`, { url });
  }
}

async function readBody(request: IncomingMessage): Promise<string> {
  let body = '';
  for await (const chunk of request) body += String(chunk);
  return body;
}

function isSigned(secret: string, body: string, headers: Record<string, string>): boolean {
  try {
    new Webhook(secret).verify(body, headers);
    return true;
  } catch {
    return false;
  }
}
