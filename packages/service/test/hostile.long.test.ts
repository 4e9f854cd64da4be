import { expect } from 'chai';
import { ATTACKS } from '../../../test/hostile/attacks.js';
import { AttackedService } from '../../../test/hostile/run-attack.js';

/** How long each attack lasts here. `npm run hostile` runs them for longer, with more data. */
const ATTACK_MS = 2500;
const SETTLE_MS = 300;

/** Wide enough for a machine that is slow and busy; each of these attacks stopped the service for good, or killed it. */
const MOST = { waitMs: 15_000, peakMiB: 1536 };

describe('a service under attack', () => {
  let service: AttackedService;
  before(async () => {
    service = await AttackedService.start(0.3, ['--idle-timeout', '2s']);
  });
  after(() => service.stop());

  for (const [name, { about }] of Object.entries(ATTACKS)) {
    it(`serves others during ${about}, and is whole afterwards`, async () => {
      const { alive, faults, waits, memory } = await service.attack(name, ATTACK_MS, SETTLE_MS);
      expect(alive, 'it lives, and answers a long read').to.equal(true);
      expect(faults).to.deep.equal([]);
      expect(Math.max(...Object.values(waits)), JSON.stringify(waits)).to.be.below(MOST.waitMs);
      expect(memory.peak, 'MiB at most').to.be.below(MOST.peakMiB);
    });
  }
});
