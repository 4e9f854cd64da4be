import { expect } from 'chai';
import { Run } from '../../../test/command-run.js';
import { PROGRAMS } from '../../../test/conformance/programs.js';
import { temporaryDirectory } from '../../../test/service.js';

describe('all clients and recipes pass the conformance kit', function () {
  this.timeout(600_000);
  for (const { name, prepare, query, writes, environment = {}, cannot = [] } of PROGRAMS) {
    it(name, async () => {
      const directory = temporaryDirectory();
      const command = await prepare(directory.path);
      const options = ['--json', ...(query ? ['--query', query] : []), ...(writes ? ['--writes'] : [])];
      const { out, err } = await new Run(['conformance', ...options, '--', ...command], {
        HOME: process.env.HOME!,
        ...environment,
      }).ended;
      expect(err).to.equal('');
      const outcomes = out
        .trim()
        .split('\n')
        .map((line) => JSON.parse(line) as { check: string; state: string });
      expect(outcomes.length).to.be.at.least(12);
      const wrong = outcomes.filter(({ check, state }) => state !== 'passed' && !cannot.includes(check));
      expect(wrong).to.deep.equal([]);
      directory.remove();
    });
  }
});
