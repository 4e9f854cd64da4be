import { expect } from 'chai';
import { readFileSync } from 'node:fs';
import { createProblem, Problem, problemName, PROBLEMS, type ProblemName } from '@uproar/protocol';

describe('the catalogue of problems', () => {
  it('is the one the docs have, type by type', () => {
    const page = readFileSync(new URL('../../../docs/problems.md', import.meta.url), 'utf8');
    const rows = [...page.matchAll(/^\| `([a-z-]+)` \| (\d+) \| ([^|]+) \| ([^|]+) \|$/gm)];
    const documented = Object.fromEntries(
      rows.map(([, name, status, title]) => [name, { status: Number(status), title }]),
    );
    expect(documented).to.deep.equal(PROBLEMS);
  });

  it('creates reports that match their declaration and differ by type', () => {
    for (const name of Object.keys(PROBLEMS) as ProblemName[]) {
      const problem = createProblem(name, 'what to do', { pointer: '/a' });
      expect(Problem.safeParse(problem).success).to.equal(true);
      expect(problemName(problem)).to.equal(name);
    }
    expect(problemName({ type: '/problems/toString' })).to.equal(undefined);
    expect(problemName({ type: 'about:blank' })).to.equal(undefined);
  });
});
