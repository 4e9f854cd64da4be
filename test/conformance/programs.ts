import { execFileSync } from 'node:child_process';
import { appendFileSync, copyFileSync, mkdirSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { fileURLToPath } from 'node:url';
import { build } from 'esbuild';

const RECIPES = fileURLToPath(new URL('../../docs/recipes/', import.meta.url));
const HERE = fileURLToPath(new URL('./', import.meta.url));

/** A client program that the conformance kit tests. */
export interface ClientProgram {
  name: string;
  /** Makes what is needed to run it, in a directory, and returns the command. */
  prepare(directory: string): Promise<readonly string[]> | readonly string[];
  /** What it watches, if that is not everything. */
  query?: string;
  /** Whether it sends commits. */
  writes: boolean;
  environment?: Readonly<Record<string, string>>;
  /** Checks that it cannot pass. */
  cannot?: readonly string[];
}

const BOARD = "balloons?where=status+%3D+'aloft'&order=-altitude&limit=10&ordered=true";
const recipe = (name: string) => join(RECIPES, name);
const client = ['node', '--import', 'tsx', recipe('live.mjs')];

/** All clients and recipes. */
export const PROGRAMS: readonly ClientProgram[] = [
  {
    name: '`@uproar/client`, WebSocket',
    prepare: () => client,
    writes: true,
    environment: { UPROAR_TRANSPORT: 'socket' },
  },
  {
    name: '`@uproar/client`, event streams',
    prepare: () => client,
    writes: true,
    environment: { UPROAR_TRANSPORT: 'http' },
  },
  { name: '`@uproar/react`', prepare: (directory) => bundled('react-page.ts', directory), writes: false },
  { name: '`@uproar/vue`', prepare: (directory) => bundled('vue-page.ts', directory), writes: false },
  { name: 'live.sh', prepare: () => ['sh', recipe('live.sh')], writes: true },
  { name: 'live.py', prepare: () => ['python3', recipe('live.py')], writes: true },
  { name: 'Live.java', prepare: compileJava, writes: true },
  { name: 'live.c', prepare: compileC, writes: true },
  { name: 'board.js', prepare: boardPage, query: BOARD, writes: false, cannot: ['silence'] },
];

/** Compiles the recipe in C. */
export function compileC(directory: string): string[] {
  const program = join(directory, 'live');
  execFileSync('cc', ['-O2', '-Wall', '-Wextra', '-Werror', '-o', program, recipe('live.c'), '-lcurl', '-lpthread']);
  return [program];
}

/** Compiles the recipe in Java. */
export function compileJava(directory: string): string[] {
  execFileSync('javac', ['-Xlint:all,-serial', '-Werror', '-d', directory, recipe('Live.java')]);
  return ['java', '-cp', directory, 'Live'];
}

async function bundled(entry: string, directory: string): Promise<string[]> {
  const script = join(directory, entry.replace('.ts', '.js'));
  await build({
    entryPoints: [join(HERE, entry)],
    outfile: script,
    bundle: true,
    format: 'iife',
    platform: 'browser',
    define: { 'process.env.NODE_ENV': '"development"' },
    logLevel: 'error',
  });
  return pageCommand(script);
}

/** The board shows lines for people; for the kit it also prints its state. */
function boardPage(directory: string): string[] {
  const script = join(directory, 'board.js');
  copyFileSync(recipe('board.js'), script);
  appendFileSync(
    script,
    `
const showLines = show;
show = (text) => {
  showLines(text);
  if (text.startsWith('seq')) console.log('state ' + JSON.stringify(state));
};
refuse = (problem) => refused(problem.title);
`,
  );
  return pageCommand(script);
}

function pageCommand(script: string): string[] {
  return ['node', '--import', 'tsx', join(HERE, 'page-program.ts'), script];
}

/** A copy of the recipe in Python with one thing changed, which must make a difference. */
export function brokenRecipe(directory: string, source: string, right: string, wrong: string): string[] {
  if (!source.includes(right)) throw new Error(`The recipe has no "${right}".`);
  mkdirSync(directory, { recursive: true });
  const program = join(directory, 'broken.py');
  writeFileSync(program, source.replace(right, wrong));
  return ['python3', program];
}
