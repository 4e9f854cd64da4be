import { expect } from 'chai';
import { CommandBench } from '../../../test/command-run.js';

describe('uproar erase', () => {
  const bench = new CommandBench();
  const run = (...args: string[]) => bench.run(['erase', ...args]);
  const put = (id: string, data: object) => bench.service.request('PUT', `/v1/data/guests/${id}`, data);

  it('counts first, erases after a confirmation, names the backups that hold the documents, and lists erasures', async () => {
    expect((await run()).err).to.equal('nothing has been erased\n');
    for (const id of ['g-1', 'g-2', 'g-3', 'g-4']) await put(id, { email: 'ada@field.example' });
    await put('g-4', { email: 'bo@field.example' });
    await bench.service.request('DELETE', '/v1/data/guests/g-3');
    const backup = await bench.run(['backup', bench.at('before.sqlite')]);
    expect(backup.code, backup.err).to.equal(0);
    const where = ['guests', '--where', "email = 'ada@field.example'"];
    const dry = await run(...where, '--dry-run');
    expect(dry.out).to.equal('dry run 2 documents (2 more met the condition earlier: --past)\n');
    const unsure = await run(...where, '--past');
    expect([unsure.code, unsure.err]).to.deep.equal([
      2,
      'error Erasing cannot be undone.\n      Confirm it with --yes.\n',
    ]);
    const done = await run(...where, '--past', '--yes', '--reason', 'asked for');
    expect(done.code, done.err).to.equal(0);
    expect(done.out).to.match(/^erased 4 documents with 6 changes, in guests {2}seq 7, erasure \w+\n/);
    expect(done.out).to.match(
      /still hold what was erased.*\n\nmade +by +seq +size +sha256\n\S+ \S+ +key:environment +6 +\S+ kB +[0-9a-f]{64}\n/,
    );
    const listed = (await run()).out.split('\n');
    expect(listed[1]).to.match(/key:environment +guests +4 +7 +done +1 hold it +asked for$/);
    const journal = await bench.run(['journal', 'guests/g-1']);
    expect(journal.out).to.match(/× guests\/g-1 {2}erased\n.*× guests\/g-1 {2}erased\n$/);
    const revert = await bench.run(['revert', 'guests/g-1', '--to', '1']);
    expect(revert.code).to.not.equal(0);
    expect(revert.err).to.include('The store no longer has the state of guests/g-1 at seq 1.');
    const json = await run('--json');
    expect(JSON.parse(json.out)).to.include({ documents: 4, state: 'done' });
  });

  it('is reported by doctor if it has not reached the files of a node', async () => {
    const { rewrites } = bench.service.service.store;
    await put('g-8', { n: 1 });
    const { run: rewrite } = rewrites;
    rewrites.run = () => Promise.resolve(void (rewrites.reason = 'The disk is too small.'));
    const erased = await run('guests/g-8', '--yes');
    expect(erased.out).to.include(
      'waiting These nodes have not rewritten their files yet: this node. The disk is too small.',
    );
    const { out } = await bench.run(['doctor']);
    expect(out).to.match(/erasures.*has not reached the files of this node\. The disk is too small\./);
    rewrites.run = rewrite;
    await rewrites.run();
    expect((await bench.run(['doctor'])).out).to.not.include('erasures');
  });

  it('explains wrong calls', async () => {
    await put('g-9', { n: 1 });
    expect((await run('guests')).err).to.include('Say which documents: --where CONDITION, or guests/ID.');
    expect((await run('guests/g-9', '--where', 'n = 1')).code).to.equal(2);
    expect((await run('guests/nobody', '--yes')).code).to.equal(5);
    expect((await run('guests', '--where', 'n = 2', '--yes')).out).to.equal(
      'nothing to erase No document of guests meets the condition.\n',
    );
    const one = await run('guests/g-9', '--yes', '--forget-ids');
    expect(one.out).to.match(/^erased 1 document with 1 change, in guests/);
    expect((await bench.run(['journal', '--last', '1'])).out).to.match(/× guests\/erased-\w+-1 {2}erased\n$/);
  });
});
