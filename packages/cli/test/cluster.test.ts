import { expect } from 'chai';
import { Run } from '../../../test/command-run.js';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd } from '../../../test/etcd.js';
import { KEY, temporaryDirectory, type TestService, until } from '../../../test/service.js';

describe('the command line: several nodes', () => {
  let etcd: Etcd;
  before(async () => (etcd = await Etcd.start(1)));
  after(() => etcd.stop());

  const run = (args: string[], environment: Record<string, string> = {}) => new Run(args, environment).ended;

  it('shows the nodes, examines them, and reaches any that is there', async () => {
    const nodes = [await startNode(etcd, 'cli/'), await startNode(etcd, 'cli/')] as [TestService, TestService];
    const environment = { UPROAR_URL: nodes.map(({ url }) => url).join(','), UPROAR_KEY: KEY };
    await until('they know each other', async () => {
      const { json } = await nodes[0].request('GET', '/v1/cluster');
      return json.nodes.length === 2;
    });
    const { out } = await run(['cluster'], environment);
    for (const { url } of nodes) expect(out).to.include(url);
    expect(out).to.match(/answers(, does the maintenance)?(, delivers to hooks)?$/m);
    expect(out).to.match(/^http:\S+ +3\.\S+ +\S+ \S+ +leads$/m);
    const { json } = await nodes[0].request('GET', '/v1/cluster');
    expect(JSON.parse((await run(['cluster', '--json'], environment)).out).store).to.equal(json.store);
    const doctor = (await run(['doctor'], environment)).out;
    expect(doctor).to.include('2 nodes are running').and.include('etcd has 1 member.');
    expect(doctor).to.match(/1 of 1 member answer|etcd takes \d+ ms for the largest entry/);

    await nodes[1].service.close();
    for (let n = 0; n < 3; n++) {
      expect((await run(['put', `notes/n-${n}`, '{"text":"hello"}'], environment)).code, 'on the other node').to.equal(
        0,
      );
    }
    expect((await run(['doctor'], environment)).out).to.include('Only one node is running');
    await nodes[0].stop();
    await nodes[1].stop();
  });

  it('serves as a node of a cluster, and goes back to one process', async () => {
    const { path, remove } = temporaryDirectory();
    const node = await startNode(etcd, 'alone/', { directory: path });
    await node.request('PUT', '/v1/data/notes/n-1', { text: 'hello' });
    await node.service.close();
    const alone = await run(['serve', '--data', path, '--port', '0']);
    expect(alone.err).to.include('part of a cluster').and.include('uproar cluster detach');
    expect((await run(['cluster', 'detach', path])).out).to.equal(`detached ${path}  seq 1\n`);
    expect((await run(['cluster', 'detach', path])).err).to.include('not part of a cluster');
    expect((await run(['serve', '--cluster', 'nowhere'])).err).to.include('not the address of etcd');
    expect((await run(['serve', '--port', '0', '--cluster', etcd.urls[0]!])).err).to.include('--node-address');
    expect((await run(['serve', '--host', '0.0.0.0', '--cluster', etcd.urls[0]!])).err).to.include('--node-address');
    expect((await run(['cluster', '--url', 'http://127.0.0.1:1'])).code).to.equal(3);
    remove();
  });
});
