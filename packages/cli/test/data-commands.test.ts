import { expect } from 'chai';
import { execFile } from 'node:child_process';
import { createServer, type Server } from 'node:http';
import { existsSync, readFileSync, statSync } from 'node:fs';
import { type AddressInfo } from 'node:net';
import { promisify } from 'node:util';
import type { ConnectionListing } from '@uproar/protocol';
import type { Command } from 'commander';
import { CommandBench, MAIN, Run } from '../../../test/command-run.js';
import { buildProgram } from '../dist/program.js';
import { KEY, until, type TestService } from '../../../test/service.js';

describe('data commands', () => {
  const bench = new CommandBench();
  const { run, at, file } = bench;
  let service: TestService;
  before(() => (service = bench.service));
  const lines = (text: string) => text.trim().split('\n');

  it('explains every command with examples, its settings and its exit codes', async () => {
    const helpOf = (command: Command): string => {
      let text = '';
      command.configureOutput({ writeOut: (part) => (text += part) });
      command.outputHelp();
      return text;
    };
    const program = await buildProgram();
    const main = (await run(['--help'])).out;
    expect(main).to.equal(helpOf(program));
    expect(main).to.include('UPROAR_URL').and.include('NO_COLOR').and.include('130 ended by Ctrl-C');
    expect(program.commands.map((command) => command.name())).to.include.members([
      'watch',
      'doctor',
      'devices',
      'profile',
    ]);
    for (const command of program.commands.flatMap((command) => [command, ...command.commands])) {
      const place = `${command.parent!.name()} ${command.name()}`;
      expect(helpOf(command), place).to.match(/Examples?:\n {2}\S/);
      expect(command.description(), place).not.to.equal('');
    }
    expect((await run(['wach', 'balloons'])).err).to.include('Did you mean watch?');
    expect((await run(['query', 'balloons', '--ordr', 'x'])).err).to.include('Did you mean --order?');
    expect((await run(['wach'])).code).to.equal(2);
  });

  it('keeps profiles readable only for their owner, and sends a key only to its own address', async () => {
    const profiles = at('settings/profiles.json');
    const as = (args: string[], environment: Record<string, string> = {}) =>
      run(args, undefined, { UPROAR_URL: '', UPROAR_KEY: '', UPROAR_PROFILES: profiles, ...environment });
    expect((await as(['profile', 'list'])).out).to.include('There are no profiles');
    expect((await as(['profile', 'add', 'tower', '--url', `${service.url}/`, '--key', KEY])).out).to.include(
      'the default',
    );
    expect(statSync(profiles).mode & 0o777).to.equal(0o600);
    await as(['profile', 'add', 'nowhere', '--url', 'http://127.0.0.1:9']);
    expect((await as(['put', 'notes/a', '{"text":"by profile"}'])).code).to.equal(0);
    expect((await as(['get', 'notes/a', '--profile', 'tower'])).out).to.include('by profile');
    expect((await as(['status', '--profile', 'nowhere'])).code).to.equal(3);
    expect((await as(['status'], { UPROAR_PROFILE: 'nowhere' })).code).to.equal(3);
    expect(
      (await as(['status'], { UPROAR_PROFILE: 'nowhere', UPROAR_URL: service.url, UPROAR_KEY: KEY })).code,
    ).to.equal(0);
    expect((await as(['get', 'notes', '--url', service.url])).code, 'the key of the profile stays with it').to.equal(4);
    expect((await as(['status', '--profile', 'towr'])).err).to.include('There are: tower, nowhere.');
    const listed = lines((await as(['profile', 'list', '--json'])).out).map((line) => JSON.parse(line) as object);
    expect(listed).to.deep.include({ name: 'tower', url: service.url, hasKey: true, default: true });
    expect((await as(['profile', 'list'])).out).not.to.include(KEY);
    await as(['profile', 'use', 'nowhere']);
    expect((await as(['status'])).code).to.equal(3);
    await as(['profile', 'remove', 'nowhere']);
    expect(JSON.parse(readFileSync(profiles, 'utf8')) as object).to.not.have.property('default');
    for (const args of [
      ['add', 'a b', '--url', service.url],
      ['add', 'x', '--url', 'tower'],
      ['use', 'gone'],
      ['remove', 'gone'],
    ])
      expect((await as(['profile', ...args])).code, args.join(' ')).to.be.oneOf([2, 5]);
    expect((await as(['status'], { UPROAR_PROFILES: file('broken.json', '{"profiles": 3') })).err).to.include(
      'is not a profiles file',
    );
  });

  it('writes documents that end, prints when, and keeps the end of what it rewrites, exports and reverts', async () => {
    const expires = async () =>
      JSON.parse((await run(['get', 'passing/p-1', '--json'])).out).expires as string | undefined;
    expect((await run(['put', 'passing/p-1', '{"n":1}', '--ttl', '2h'])).code).to.equal(0);
    expect(Date.parse((await expires())!) - Date.now()).to.be.within(7_000_000, 7_200_000);
    expect((await run(['get', 'passing/p-1'])).out).to.match(/, expires \d{4}-/);
    expect((await run(['merge', 'passing/p-1', '{}', '--expires', '2999-01-01T00:00:00Z'])).code).to.equal(0);
    await run(['adjust', 'passing/p-1', 'n+=1']);
    await run(['revert', 'passing/p-1']);
    expect(await expires(), 'after a revert').to.equal('2999-01-01T00:00:00.000Z');
    const exported = file('passing.ndjson', (await run(['export', 'passing'])).out);
    await run(['delete', 'passing/p-1']);
    expect((await run(['import', 'passing', exported])).code).to.equal(0);
    expect(await expires(), 'after an import').to.equal('2999-01-01T00:00:00.000Z');
    await run(['merge', 'passing/p-1', '{}', '--expires', 'never']);
    expect(await expires()).to.equal(undefined);
    expect((await run(['put', 'passing/p-1', '{}', '--ttl', 'soon'])).code).to.equal(2);
    expect((await run(['put', 'passing/p-1', '{}', '--expires', 'tomorrow'])).err).to.include('or never');
    expect((await run(['put', 'passing/p-1', '{}', '--expires', 'never', '--ttl', '5s'])).err).to.include('or --ttl');
  });

  it('completes commands, options, values, collections and ids, and prints nothing without a match', async () => {
    for (const n of [1, 2]) await run(['put', `balloons/bl-${n}`, '{}']);
    const suggested = async (...words: string[]) => {
      const { out } = await run(['suggest', '--', ...words]);
      return out === ''
        ? []
        : out
            .trimEnd()
            .split('\n')
            .map((line) => line.split('\t')[0]);
    };
    expect(await suggested('wa')).to.deep.equal(['watch']);
    expect(await suggested(''))
      .to.include.members(['serve', 'doctor'])
      .and.not.include('suggest');
    expect(await suggested('watch', 'bal')).to.deep.equal(['balloons']);
    expect(await suggested('get', 'balloons/bl-')).to.deep.equal(['balloons/bl-1', 'balloons/bl-2']);
    expect(await suggested('watch', '--wh')).to.deep.equal(['--where']);
    expect(await suggested('import', 'x', 'y', '--on-conflict', '')).to.deep.equal(['replace', 'keep', 'fail']);
    expect(await suggested('policy', 'v')).to.deep.equal(['versions']);
    expect(await suggested('completion', '')).to.deep.equal(['bash', 'zsh', 'fish']);
    expect(await suggested('watch', '--where', '')).to.deep.equal([]);
    expect(
      (await run(['suggest', '--', 'watch', 'bal'], undefined, { UPROAR_URL: 'http://127.0.0.1:9' })).out,
    ).to.equal('');
    expect((await run(['completion', 'tcsh'])).code).to.equal(2);
    expect((await run(['completion', 'fish'])).out).to.include('complete -c uproar');
    expect((await run(['completion', 'zsh'])).out).to.include('compdef _uproar uproar');
  });

  it('completes in bash itself', async () => {
    await run(['put', 'balloons/bl-1', '{}']);
    const script = file(
      'complete.bash',
      `uproar() { "${process.execPath}" "${MAIN}" "$@"; }\n` +
        `${(await run(['completion', 'bash'])).out}\n` +
        'COMP_WORDS=(uproar watch ball); COMP_CWORD=2; _uproar; echo "${COMPREPLY[*]}"\n' +
        'COMP_WORDS=(uproar sta); COMP_CWORD=1; _uproar; echo "${COMPREPLY[*]}"\n',
    );
    const environment = { ...process.env, UPROAR_URL: service.url, UPROAR_KEY: KEY };
    const { stdout } = await promisify(execFile)('bash', [script], { encoding: 'utf8', env: environment });
    expect(lines(stdout)).to.deep.equal(['balloons', 'status']);
  });

  it('lists who is connected, and ends a connection', async () => {
    const truck = service.client({ device: 'truck-9' });
    truck.collection('balloons').watch({ where: 'altitude > 5' });
    await truck.ready();
    await until('it watches', async () =>
      /truck-9 .*up to date .*balloons where altitude > 5/.test((await run(['devices'])).out),
    );
    const [found] = lines((await run(['devices', 'list', 'truck-9', '--json'])).out).map(
      (line) => JSON.parse(line) as { id: string; device: string },
    );
    expect(found).to.include({ device: 'truck-9' });
    expect((await run(['devices', 'end', found!.id])).out).to.equal(`ended ${found!.id}\n`);
    expect((await run(['devices', 'end', found!.id])).code).to.equal(5);
    await until('it is back', () => truck.state.name === 'online');
    truck.close();
  });

  it('measures how fast the store is, and leaves nothing behind', async () => {
    const outcome = JSON.parse(
      (await run(['bench', '--seconds', '1', '--writers', '2', '--watchers', '2', '--json'])).out,
    ) as {
      written: number;
      writesPerSecond: number;
      commitMs: Record<string, number>;
      deliveryMs: Record<string, number>;
    };
    expect(outcome.written).to.be.above(10);
    expect(outcome.commitMs.p50).to.be.above(0).and.at.most(outcome.commitMs.max!);
    expect(outcome.deliveryMs.p50).to.be.above(0);
    const { documents } = (await service.request('GET', '/v1/collections')).json;
    const left = documents.filter(({ id }: { id: string }) => id === 'bench');
    expect(left.every(({ data }: { data: { documents: number } }) => data.documents === 0)).to.equal(true);
    expect((await run(['bench', '--writers', '9999'])).code).to.equal(2);
  });

  it('ends cleanly when it is interrupted', async () => {
    const connections = async () =>
      ((await service.request('GET', '/v1/connections')).json as ConnectionListing).connections;
    for (const args of [
      ['watch', 'balloons'],
      ['watch', 'balloons', '--json'],
      ['journal', '--follow'],
    ]) {
      const watching = new Run(args, { UPROAR_URL: service.url, UPROAR_KEY: KEY });
      await until('it watches', async () => (await connections()).some(({ watches }) => watches.length > 0));
      watching.process.kill('SIGINT');
      expect(await watching.ended, args.join(' ')).to.deep.include({ code: 0, err: '' });
      await until('it has gone', async () => (await connections()).length === 0);
    }
  });

  describe('doctor', () => {
    const find = (out: string) =>
      new Map(
        lines(out)
          .map((line) => JSON.parse(line) as { about: string; state: string; mend?: string })
          .map((found) => [found.about, found]),
      );

    it('finds no problems in a healthy store, and prints warnings', async () => {
      const { code, out } = await run(['doctor', '--json']);
      expect(code).to.equal(0);
      const found = find(out);
      for (const about of ['here', 'address', 'key', 'live', 'clock', 'streams'])
        expect(found.get(about)?.state, about).to.equal('good');
      expect(found.get('policy')).to.include({ state: 'warning' });
      expect(found.get('policy')!.mend).to.include('uproar policy set');
      expect(found.get('disk')?.state).to.be.oneOf(['good', 'warning']);
      expect(found.has('files')).to.equal(true);
      const text = (await run(['doctor', '--data', service.directory])).out;
      expect(text).to.include('✓ streams').and.include('no problems found').and.include('can be read and written');
    });

    it('reports problems with the address, the key and the data directory, with advice', async () => {
      const unreachable = await run(['doctor'], undefined, { UPROAR_URL: 'http://127.0.0.1:9' });
      expect(unreachable.code).to.equal(1);
      expect(unreachable.out).to.include('✗ address').and.include('Is the store running').and.include('1 error');
      const wrong = await run(['doctor', '--key', 'wrong-key-0123456789']);
      expect(wrong.out).to.include('✗ key').and.include('→ Give the key');
      expect((await run(['doctor', '--url', 'tower'])).out).to.include('is not the address of a store');
      expect((await run(['doctor', '--data', at('gone')])).out).to.include('✗ data');
      expect(existsSync(at('gone'))).to.equal(false);
      const { key } = (await service.request('POST', '/v1/keys', { name: 'reader', scope: 'read' })).json;
      expect(find((await run(['doctor', '--json', '--key', key as string])).out).get('policy')?.state).to.equal(
        'unknown',
      );
    });

    it('notices a proxy that holds event streams back', async () => {
      const proxy = await holdingProxy(service.url);
      const { port } = proxy.address() as AddressInfo;
      const { code, out } = await run(['doctor', '--json', '--url', `http://127.0.0.1:${port}`]);
      proxy.closeAllConnections();
      proxy.close();
      expect(code).to.equal(1);
      expect(find(out).get('streams')).to.include({
        state: 'bad',
        mend: 'Disable buffering and compression of text/event-stream in the proxy.',
      });
      expect(find(out).get('live')?.state, 'and WebSockets are blocked').to.equal('bad');
    });
  });
});

/** A proxy that passes an answer on when it is complete, as some do, and knows nothing of WebSockets. */
function holdingProxy(target: string): Promise<Server> {
  const proxy = createServer((request, response) => {
    void (async () => {
      try {
        const pieces: Buffer[] = [];
        for await (const piece of request) pieces.push(piece as Buffer);
        const { host: _, connection: __, upgrade: ___, ...headers } = request.headers;
        const answer = await fetch(target + request.url!, {
          method: request.method!,
          headers: headers as Record<string, string>,
          ...(pieces.length > 0 ? { body: Buffer.concat(pieces) } : {}),
        });
        const body = Buffer.from(await answer.arrayBuffer());
        response.writeHead(answer.status, { 'content-type': answer.headers.get('content-type') ?? '' }).end(body);
      } catch {
        response.destroy();
      }
    })();
  });
  return new Promise((resolve) => proxy.listen(0, '127.0.0.1', () => resolve(proxy)));
}
