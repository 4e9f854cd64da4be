import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect } from 'chai';
import { brokenRecipe } from '../../../test/conformance/programs.js';
import { Run } from '../../../test/command-run.js';
import { temporaryDirectory } from '../../../test/service.js';

const RECIPE = new URL('../../../docs/recipes/live.py', import.meta.url).pathname;

interface Outcome {
  check: string;
  state: string;
  message?: string;
  details?: string[];
  exchange?: string[];
}

describe('the conformance kit', function () {
  this.timeout(120_000);
  const source = readFileSync(RECIPE, 'utf8');
  const directory = temporaryDirectory();
  after(() => directory.remove());

  const run = (args: string[]) => new Run(['conformance', ...args], {}).ended;
  const test = async (command: string[], only: string, ...more: string[]) => {
    const { out, err, code } = await run(['--json', '--timeout', '5', '--only', only, ...more, '--', ...command]);
    expect(err).to.equal('');
    const outcomes = out.split('\n').flatMap((line) => (line === '' ? [] : (JSON.parse(line) as Outcome)));
    return { code, outcomes };
  };

  it('passes the recipe in Python', async () => {
    const only = 'result,values,pieces,cut,reset,refused,commits';
    const { code, outcomes } = await test(['python3', RECIPE], only, '--writes');
    expect(outcomes.map(({ check, state }) => `${check} ${state}`)).to.deep.equal(
      only.split(',').map((check) => `${check} passed`),
    );
    expect(code).to.equal(0);
  });

  // What people get wrong, and the check that finds it.
  const MISTAKES: [mistake: string, check: string, right: string, wrong: string][] = [
    ['keeps its copy at a reset', 'reset', 'name in ("result", "reset")', 'name == "result"'],
    [
      'decodes ~0 before ~1',
      'values',
      '.replace("~1", "/").replace("~0", "~")',
      '.replace("~0", "~").replace("~1", "/")',
    ],
    [
      'overwrites an item where one is inserted',
      'changes',
      'target.insert(last, operation["value"])',
      'target[last] = operation["value"]',
    ],
    ['ends when the store is busy', 'busy', '(408, 429, 500, 502, 503, 504)', '()'],
    ['takes every problem for one that passes', 'refused', 'error.code in PASSING', 'True'],
    ['gives up when the link is cut', 'cut', 'except BROKEN as error:', 'except KeyError as error:'],
    [
      'takes back the resume point of an earlier copy',
      'cut',
      'last_id = event_id or last_id',
      'last_id = last_id or event_id',
    ],
    [
      'gives each attempt an id of its own',
      'commits',
      'line.encode()',
      'line.replace(\'{"id": "\', \'{"id": "x\').replace(\'{"id":"\', \'{"id":"\' + str(time.time())).encode()',
    ],
  ];
  it('finds these mistakes in variants of the recipe, and shows the exchange', async () => {
    const tested = MISTAKES.map(async ([mistake, check, right, wrong], number) => {
      const program = brokenRecipe(join(directory.path, `${number}`), source, right, wrong);
      const { code, outcomes } = await test(program, check, '--writes');
      expect(outcomes[0], mistake).to.include({ check, state: 'failed' });
      expect(outcomes[0]!.exchange!.join('\n'), mistake).to.match(/→ (?:GET|POST) \/v1\/.*HTTP\/1\.1/);
      expect(code, mistake).to.equal(1);
    });
    await Promise.all(tested);
  });

  it('remarks that a program reads everything again after a cut', async () => {
    const program = brokenRecipe(join(directory.path, 'reading'), source, 'if last_id:', 'if False:');
    const { code, outcomes } = await test(program, 'cut');
    expect(outcomes[0]).to.include({ check: 'cut', state: 'remark' });
    expect(code).to.equal(0);
  });

  it('shows a readable exchange of a WebSocket whose bytes come in pieces', async () => {
    const program = join(directory.path, 'partial.mjs');
    const client = new URL('../../client/dist/node.js', import.meta.url).href;
    writeFileSync(
      program,
      `import { connect } from '${client}';
      const store = connect(process.env.UPROAR_URL, { token: process.env.UPROAR_KEY, transport: 'socket' });
      store.watch({ query: { from: 'balloons', limit: 'none' } }).subscribe(({ state, documents }) => {
        if (state === 'live') console.log(JSON.stringify(documents.slice(0, 3)));
      });`,
    );
    const { outcomes } = await test(['node', program], 'pieces');
    const exchange = outcomes[0]!.exchange!;
    expect(outcomes[0]).to.include({ state: 'failed' });
    expect(exchange.slice(0, 4)).to.deep.equal([
      'connection 1',
      '→ GET /v1/live HTTP/1.1',
      '→ Upgrade: websocket',
      '← HTTP/1.1 101 Switching Protocols',
    ]);
    expect(exchange.join('\n')).to.match(/→ .*"method":"hello","params":\{"token":"…"\}/);
    expect(exchange.join('\n')).to.match(/→ .*"method":"watch"/);
    for (const line of exchange.slice(1)) expect(line).to.match(/^(?:→ |← | {2})/);
  });

  it('ends a program that prints without end', async () => {
    const { outcomes } = await test(['sh', '-c', `yes '{"bl-1":{}}'`], 'result');
    expect(outcomes[0]).to.deep.include({ state: 'failed', details: ['line: more than 100000 states'] });
  });

  it('lists its checks, and refuses an unknown one, a missing program, and one that does not start', async () => {
    const list = await run(['--list']);
    expect(list.out).to.match(/^check +the program …\nresult /);
    const unknown = await run(['--only', 'speed', '--', 'true']);
    expect([unknown.code, unknown.err]).to.deep.equal([
      2,
      'error There is no check "speed".\n      The checks are: result, changes, values, pieces, cut, restart, killed, reset, slow, busy, refused, silence, commits.\n',
    ]);
    expect((await run([])).err).to.include('The program is missing.');
    const missing = await test(['/no/such/program'], 'result');
    expect(missing.outcomes[0]).to.include({ state: 'failed' });
    expect(missing.outcomes[0]!.message).to.include('not started');
    const talkative = await test(['echo'], 'result');
    expect(talkative.outcomes[0]!.message).to.equal('The program printed a line that is not a state.');
  });
});
