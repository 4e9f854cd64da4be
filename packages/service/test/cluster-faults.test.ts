import { expect } from 'chai';
import { clusterRounds } from '../../../test/cluster-rounds.js';

describe('a cluster of processes', function () {
  // Three nodes and three members of etcd, on two cores that other tests use, too.
  this.timeout(180_000);
  it('loses and doubles nothing when nodes and members of etcd fail', async () => {
    // `npm run crash -- cluster 100` makes more faults, and writes without pauses.
    const { acknowledged, faults } = await clusterRounds(3, 3, () => undefined, { betweenMs: 50 });
    expect(acknowledged, 'writers got through').to.be.above(30);
    expect(Object.values(faults).reduce((sum, count) => sum + count, 0)).to.equal(3);
  });
});
