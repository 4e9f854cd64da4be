import { expect } from 'chai';
import { execFile } from 'node:child_process';
import { rmSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { promisify } from 'node:util';
import { KEY, TestService } from '../../../test/service.js';
import { copiesFor, newAppFolder } from './copies.js';

describe('queries copied as code for compilers', function () {
  this.timeout(180_000);
  let service: TestService;
  let folder: string;
  before(async () => {
    folder = newAppFolder();
    service = await TestService.start();
    await service.request('PUT', '/v1/data/balloons/bl-1', { name: 'Amber', altitude: 420 });
  });
  after(async () => {
    await service.stop();
    rmSync(folder, { recursive: true });
  });
  const run = async (command: string, ...args: string[]): Promise<string> => {
    const env = { ...process.env, UPROAR_KEY: KEY, NODE_OPTIONS: '' };
    return (await promisify(execFile)(command, args, { cwd: folder, env })).stdout;
  };

  it('are apps in React and Vue without type errors', async () => {
    const { query, document } = copiesFor(service.url);
    const compilerOptions = {
      ...{ strict: true, noEmit: true, skipLibCheck: true, target: 'es2022', jsx: 'react-jsx' },
      ...{ module: 'esnext', moduleResolution: 'bundler', lib: ['es2023', 'dom'], types: ['vite/client', 'node'] },
    };
    writeFileSync(join(folder, 'tsconfig.json'), JSON.stringify({ compilerOptions, include: ['src'] }));
    for (const [name, copies] of Object.entries({ query, document })) {
      writeFileSync(join(folder, `src/${name}.ts`), copies.TypeScript!);
      writeFileSync(join(folder, `src/${name}-react.tsx`), copies.React!);
      writeFileSync(join(folder, `src/${name}-vue.vue`), copies.Vue!);
    }
    expect(await run('npx', 'vue-tsc', '-p', '.')).to.equal('');
    writeFileSync(join(folder, 'src/query.ts'), query.TypeScript!.replace('documents.map', 'document.map'));
    const failed = await run('npx', 'vue-tsc', '-p', '.').catch((error: { stdout: string }) => error.stdout);
    expect(failed, 'errors are found').to.include('error TS');
  });

  it('run in Java', async () => {
    const { query, document } = copiesFor(service.url);
    for (const copies of [query, document]) {
      writeFileSync(join(folder, 'Once.java'), copies['Java, once']!);
      expect(await run('java', 'Once.java')).to.include('"Amber"');
    }
  });
});
