import { expect } from 'chai';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import { startNode } from '../../../test/cluster-nodes.js';
import { Etcd } from '../../../test/etcd.js';
import { KEY, type TestService } from '../../../test/service.js';
import { keepMoving } from './movement.js';
import { Windows } from './windows.js';

describe('a cluster in the console', function () {
  // A browser that shares two cores with other tests.
  this.timeout(150_000);
  const windows = new Windows();
  let etcd: Etcd;
  let nodes: TestService[];
  let endMovement: () => Promise<void>;
  before(async () => {
    etcd = await Etcd.start(1);
    nodes = [
      await startNode(etcd, 'console/', { consoleDirectory: CONSOLE_DIRECTORY }),
      await startNode(etcd, 'console/'),
    ];
    endMovement = keepMoving(nodes[0]!.client());
  });
  after(async () => {
    await endMovement();
    for (const node of nodes) await node.stop();
    await etcd.stop();
  });

  it('shows the nodes and members of etcd, also when one leaves or does not answer, and goes on', async () => {
    const [one, other] = nodes as [TestService, TestService];
    const page = await windows.signIn(one.url, 'operations', KEY);
    const rows = page.getByRole('region', { name: 'Nodes' }).locator('tbody tr');
    await rows.filter({ hasText: other.url }).getByText('running').waitFor();
    await rows.filter({ hasText: one.url }).getByText('this page').waitFor();
    expect(await rows.count()).to.equal(2);
    await other.service.close();
    await rows.filter({ hasText: other.url }).waitFor({ state: 'detached' });
    await other.restart();
    await rows.filter({ hasText: other.url }).getByText('running').waitFor();
    await rows.getByText('does the maintenance').waitFor();
    const members = page.getByRole('region', { name: 'Members of etcd' }).locator('tbody tr');
    await members.getByText('leads').waitFor();
    const badge = page.getByRole('status').filter({ hasText: /Connected|Not up to date/ });
    await etcd.pauseMember(etcd.members[0]!);
    try {
      await badge.getByText('Not up to date').waitFor();
      await members.getByText('does not answer').waitFor();
    } finally {
      etcd.resumeMember(etcd.members[0]!);
    }
    await badge.getByText('Connected').waitFor();
    await page.context().close();
  });
});
