import { expect } from 'chai';
import { spawnSync } from 'node:child_process';
import { copyFileSync, mkdirSync, writeFileSync } from 'node:fs';
import { dirname, join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { temporaryDirectory } from '../../../test/service.js';

const root = fileURLToPath(new URL('../../../', import.meta.url));

/** Runs the import check of this repository over other files. */
function check(files: Record<string, string>): { status: number | null; output: string } {
  const directory = temporaryDirectory();
  try {
    copyFileSync(join(root, 'tsconfig.base.json'), join(directory.path, 'tsconfig.base.json'));
    for (const [path, text] of Object.entries(files)) {
      mkdirSync(dirname(join(directory.path, path)), { recursive: true });
      writeFileSync(join(directory.path, path), text);
    }
    const run = spawnSync(
      process.execPath,
      [
        join(root, 'node_modules/dependency-cruiser/bin/dependency-cruise.mjs'),
        '--config',
        join(root, '.dependency-cruiser.cjs'),
        'packages',
      ],
      { cwd: directory.path, encoding: 'utf8' },
    );
    return { status: run.status, output: run.stdout + run.stderr };
  } finally {
    directory.remove();
  }
}

describe('the import check', () => {
  it('accepts imports in one direction', () => {
    const { status, output } = check({
      'packages/core/src/document/a.ts': "import { b } from '../json/b.js';\nexport const a = b;\n",
      'packages/core/src/json/b.ts': 'export const b = 1;\n',
    });
    expect(status, output).to.equal(0);
  });

  it('refuses a circle, also of types only', () => {
    const { status, output } = check({
      'packages/core/src/json/a.ts': "import type { B } from './b.js';\nexport type A = B | 1;\n",
      'packages/core/src/json/b.ts': "import type { A } from './a.js';\nexport type B = A[];\n",
    });
    expect(status, output).not.to.equal(0);
    expect(output).to.include('no-circles');
  });

  it('refuses an import against the direction of the folders and of the packages', () => {
    const { status, output } = check({
      'packages/core/src/json/a.ts': "import { b } from '../document/b.js';\nexport const a = b;\n",
      'packages/core/src/document/b.ts': 'export const b = 1;\n',
      'packages/service/src/live/c.ts': "import { d } from '../http/d.js';\nexport const c = d;\n",
      'packages/service/src/http/d.ts': 'export const d = 1;\n',
    });
    expect(status, output).not.to.equal(0);
    expect(output).to.include('json/a.ts').and.include('live/c.ts');
  });

  it('refuses files, settings and live views where records are applied', () => {
    const { status, output } = check({
      'packages/service/src/state/a.ts': "import { statSync } from 'node:fs';\nexport const a = statSync;\n",
      'packages/service/src/state/b.ts': "import { c } from '../live/c.js';\nexport const b = c;\n",
      'packages/service/src/state/hash.ts': "import { createHash } from 'node:crypto';\nexport const h = createHash;\n",
      'packages/service/src/live/c.ts': 'export const c = 1;\n',
    });
    expect(status, output).not.to.equal(0);
    expect(output).to.include('state/a.ts').and.include('state/b.ts').and.not.include('state/hash.ts');
  });
});
