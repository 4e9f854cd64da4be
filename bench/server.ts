/** A server process for the benchmarks: ours, or a bare one to compare with. Tells its CPU time and memory when asked. */
import { createServer } from 'node:http';
import { WebSocketServer } from 'ws';
import { startService } from '@uproar/service';

const [mode, directory] = process.argv.slice(2) as [string, string];

async function start(): Promise<string> {
  if (mode === 'uproar') {
    const { address } = await startService({ directory, host: '127.0.0.1', port: 0, adminKey: 'bench-key-0123456789' });
    return address;
  }
  // The bare server keeps a set of sockets and sends each message it is told to, or that it gets, to all of them.
  const server = createServer();
  const sockets = new WebSocketServer({ server, perMessageDeflate: false });
  sockets.on('connection', (socket) => {
    socket.on('message', (data) => {
      for (const other of sockets.clients) other.send(data as Buffer, { binary: false });
    });
  });
  process.on('message', ({ broadcast }: { broadcast?: string }) => {
    if (broadcast === undefined) return;
    const payload = Buffer.from(broadcast);
    for (const socket of sockets.clients) socket.send(payload, { binary: false });
  });
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve));
  return `http://127.0.0.1:${(server.address() as { port: number }).port}`;
}

process.on('message', ({ ask }: { ask?: string }) => {
  if (ask !== 'usage') return;
  (globalThis as { gc?: () => void }).gc?.();
  const { user, system } = process.cpuUsage();
  process.send!({ usage: { cpuMs: (user + system) / 1000, rssBytes: process.memoryUsage().rss } });
});
process.send!({ url: await start() });
