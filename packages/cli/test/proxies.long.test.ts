import { spawn, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { mkdirSync, readFileSync, writeFileSync } from 'node:fs';
import { request, type RequestOptions } from 'node:https';
import type { IncomingMessage } from 'node:http';
import { createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import { expect } from 'chai';
import type { ConnectionListing } from '@uproar/protocol';
import { makeCertificate, type Certificate } from '../../../test/certificate.js';
import { Run } from '../../../test/command-run.js';
import { KEY, temporaryDirectory, TestService, until } from '../../../test/service.js';

/** The samples ship as they are; this test changes only ports, paths and times. */
const sample = (name: string) => readFileSync(new URL(`../../../deploy/${name}`, import.meta.url), 'utf8');

/** The idle timeout of the proxies, instead of 75 s. */
const PATIENCE_S = 2;

interface Proxy {
  name: string;
  /** Writes the configuration and returns the command that runs it in the foreground. */
  prepare(at: { directory: string; port: number; store: string; certificate: Certificate }): string[];
}

const PROXIES: Proxy[] = [
  {
    name: 'nginx',
    prepare({ directory, port, store, certificate: { certFile, keyFile } }) {
      const site = sample('nginx.conf')
        .replace('127.0.0.1:4680', store)
        .replace('listen 443', `listen 127.0.0.1:${port}`)
        .replace('/etc/ssl/uproar.pem', certFile)
        .replace('/etc/ssl/uproar.key', keyFile)
        .replaceAll('75s', `${PATIENCE_S}s`);
      const paths = ['client_body', 'proxy', 'fastcgi', 'uwsgi', 'scgi'];
      const temporary = paths.map((kind) => `${kind}_temp_path ${join(directory, kind)};`).join('\n');
      const file = join(directory, 'nginx.conf');
      writeFileSync(
        file,
        `daemon off; master_process off; pid ${join(directory, 'pid')}; error_log stderr warn;\nevents {}\nhttp {\naccess_log off;\n${temporary}\n${site}}\n`,
      );
      return ['nginx', '-p', directory, '-e', 'stderr', '-c', file];
    },
  },
  {
    name: 'haproxy',
    prepare({ directory, port, store, certificate: { cert, key } }) {
      const both = join(directory, 'both.pem');
      writeFileSync(both, cert + key);
      const file = join(directory, 'haproxy.cfg');
      writeFileSync(
        file,
        sample('haproxy.cfg')
          .replace('127.0.0.1:4680', store)
          .replace('maxconn 20000', 'maxconn 100')
          .replace('bind :443', `bind 127.0.0.1:${port}`)
          .replace('/etc/ssl/uproar-with-key.pem', both)
          .replaceAll('75s', `${PATIENCE_S}s`),
      );
      return ['haproxy', '-db', '-f', file];
    },
  },
];

async function freePort(): Promise<number> {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  server.close();
  return port;
}

for (const { name, prepare } of PROXIES) {
  describe(`behind ${name}, set up as the sample says`, () => {
    const folder = temporaryDirectory();
    let service: TestService;
    let proxy: ChildProcess;
    let certificate: Certificate;
    let url: string;

    before(async () => {
      certificate = makeCertificate(folder.path);
      service = await TestService.start({ trustedProxies: ['127.0.0.1'], heartbeatMs: 500 });
      const port = await freePort();
      url = `https://localhost:${port}`;
      const directory = join(folder.path, name);
      mkdirSync(directory);
      const store = new URL(service.url).host;
      const [command, ...args] = prepare({ directory, port, store, certificate });
      proxy = spawn(command!, args, { stdio: ['ignore', 'ignore', 'pipe'] });
      let complaints = '';
      proxy.stderr!.on('data', (text) => (complaints += String(text)));
      proxy.on('error', (error) => (complaints += error.message));
      await until(`${name} answers`, async () => {
        if (complaints.includes('emerg') || complaints.includes('ALERT')) throw new Error(complaints);
        return ask('GET', '/readyz').then(
          ({ status }) => status === 200,
          () => false,
        );
      });
    });
    after(async () => {
      proxy.kill('SIGTERM');
      await service.stop();
      folder.remove();
    });

    /** A request that comes from another address than the proxy's own. */
    function open(method: string, path: string, headers: object = {}, body?: Iterable<Buffer> | string) {
      const options: RequestOptions = {
        method,
        ca: certificate.cert,
        localAddress: '127.0.0.2',
        headers: { authorization: `Bearer ${KEY}`, 'content-type': 'application/json', ...headers },
      };
      return new Promise<IncomingMessage>((resolve, reject) => {
        const sent = request(`${url}${path}`, options, resolve).on('error', reject);
        if (typeof body === 'string' || body === undefined) sent.end(body);
        else {
          for (const part of body) sent.write(part);
          sent.end();
        }
      });
    }
    async function ask(...request: Parameters<typeof open>) {
      const response = await open(...request);
      let text = '';
      for await (const part of response) text += String(part);
      return { status: response.statusCode!, text };
    }
    const connections = async () =>
      ((await service.request('GET', '/v1/connections')).json as ConnectionListing).connections;

    it('event streams come at once, and stay open while nothing happens', async () => {
      const stream = await open('GET', '/v1/data/balloons', { accept: 'text/event-stream' });
      let heard = '';
      stream.on('data', (text) => (heard += String(text)));
      await until('the first state comes', () => heard.includes('event: result'), 120_000);
      await new Promise((resolve) => setTimeout(resolve, PATIENCE_S * 1000 + 1000));
      await ask('PUT', '/v1/data/balloons/b-1', {}, '{"name":"Amber"}');
      // A proxy that buffers would send it only after a minute of heartbeats.
      await until('the change comes', () => heard.includes('Amber'), 120_000);
      stream.destroy();
    });

    it('the command line works over WebSockets, with TLS up to the proxy', async () => {
      const environment = { UPROAR_URL: url, UPROAR_KEY: KEY, NODE_EXTRA_CA_CERTS: certificate.certFile };
      const watch = new Run(['watch', 'balloons', '--json'], environment);
      await until('it watches by a WebSocket', async () =>
        (await connections()).some(({ transport, watches }) => transport === 'socket' && watches.length > 0),
      );
      await new Promise((resolve) => setTimeout(resolve, PATIENCE_S * 1000 + 1000));
      const put = await new Run(['put', 'balloons/b-2', '{"name":"Basil"}'], environment).ended;
      expect(put.err).to.equal('');
      await until('the change comes', () => watch.out.includes('Basil'));
      expect(watch.out, 'over the connection it began with').not.to.include('reset');
      watch.process.kill('SIGINT');
      await watch.ended;
    });

    it('the store knows the address of requests, also if they claim another', async () => {
      const stream = await open('GET', '/v1/data/balloons', {
        accept: 'text/event-stream',
        'x-forwarded-for': '192.0.2.66',
      });
      await until('it is there', async () => (await connections()).some(({ address }) => address === '127.0.0.2'));
      expect((await connections()).map(({ address }) => address)).not.to.include('192.0.2.66');
      stream.destroy();
    });

    it('large files pass in both directions, pages of the same origin may write, and metrics stay inside', async () => {
      const part = Buffer.alloc(1024 * 1024, 'balloon');
      await ask('PUT', '/v1/data/files/big', {}, '{"name":"big.bin","type":"application/octet-stream"}');
      const sent = await ask('PUT', '/v1/files/big/content', { 'content-type': 'application/octet-stream' }, [
        ...Array.from({ length: 8 }, () => part),
      ]);
      expect(sent.status, sent.text).to.be.within(200, 204);
      const back = await ask('GET', '/v1/files/big/content');
      expect(back.text.length).to.equal(8 * part.length);
      const { status } = await ask('PUT', '/v1/data/balloons/b-3', { origin: url }, '{}');
      expect(status).to.equal(201);
      expect(
        (await ask('PUT', '/v1/data/balloons/b-3', { origin: 'https://elsewhere.example' }, '{}')).status,
      ).to.equal(403);
      expect((await ask('GET', '/metrics')).status).to.equal(404);
    });
  });
}
