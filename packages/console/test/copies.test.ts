import { expect } from 'chai';
import { spawn } from 'node:child_process';
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { KEY, TestService, until } from '../../../test/service.js';
import { copiesFor, newAppFolder } from './copies.js';

describe('queries copied as code', function () {
  this.timeout(60_000);
  let service: TestService;
  let folder: string;
  /** Programs that are ended when the test is over. */
  const running = new Set<ReturnType<typeof spawn>>();
  before(async () => {
    folder = newAppFolder();
    service = await TestService.start({ docsDirectory: fileURLToPath(new URL('../../../docs', import.meta.url)) });
    for (const [n, name] of ['Amber', `It's "Amber" $HOME`, 'Coral', 'Jade'].entries()) {
      await service.request('PUT', `/v1/data/balloons/bl-${n}`, { name, altitude: n * 150 });
    }
  });
  after(async () => {
    for (const child of running) child.kill('SIGKILL');
    await service.stop();
    rmSync(folder, { recursive: true });
  });

  /** Runs a command until its output holds a text. */
  async function expectOutput(command: string, text: string): Promise<void> {
    const child = spawn('bash', ['-c', `exec ${command}`], {
      cwd: folder,
      env: { ...process.env, UPROAR_KEY: KEY, HOME: folder, NODE_OPTIONS: '' },
      stdio: ['pipe', 'pipe', 'pipe'],
    });
    running.add(child);
    let output = '';
    const take = (piece: Buffer) => (output += String(piece));
    child.stdout.on('data', take);
    child.stderr.on('data', take);
    await until(`${command.slice(0, 60)} prints ${text}`, () => {
      if (child.exitCode !== null && !output.includes(text)) throw new Error(`It ended with: ${output}`);
      return output.includes(text);
    });
    child.kill('SIGKILL');
    running.delete(child);
  }

  it('run with curl, Python and TypeScript, once and live', async () => {
    const { query, document } = copiesFor(service.url);
    for (const copies of [query, document]) {
      await expectOutput(copies['curl, once']!, 'It\'s \\"Amber\\" $HOME');
      await expectOutput(copies['curl, live']!, 'event: result');
      writeFileSync(join(folder, 'once.py'), copies['Python, once']!);
      await expectOutput('python3 once.py', 'It\'s \\"Amber\\" $HOME');
      writeFileSync(join(folder, 'live.sh'), copies['Python, live']!);
      await expectOutput('bash live.sh', 'It\'s \\"Amber\\" $HOME');
      writeFileSync(join(folder, 'live.ts'), copies.TypeScript!);
      await expectOutput('node --import tsx live.ts', 'name: `It\'s "Amber" $HOME`');
    }
  });

  it('name only what there is', () => {
    const { query } = copiesFor('http://127.0.0.1:4680');
    expect(query.Address).to.match(
      /^http:\/\/127\.0\.0\.1:4680\/v1\/data\/balloons\?where=name%20%3D.*&order=-altitude&limit=2$/,
    );
    expect(query['uproar, live']).to.match(/^uproar watch balloons --where '.*' --order -altitude --limit 2$/);
    expect(query.React).to.include('limit: 2,').and.include(`order: "-altitude",`);
  });
});
