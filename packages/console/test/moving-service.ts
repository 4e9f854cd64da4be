import type { Store } from '@uproar/client';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import type { ServiceOptions } from '@uproar/service';
import { TestService } from '../../../test/service.js';
import { keepMoving } from './movement.js';

/** A service with the console whose collections change several times a second. It is there from the first test of a suite on. */
export class MovingService {
  service!: TestService;
  store!: Store;

  /**
   * Made where a suite begins.
   *
   * @param options of the service
   * @param still collections that do not move
   * @param fill writes the documents that must exist before anything changes
   */
  constructor(
    options: Partial<ServiceOptions> = {},
    still: readonly string[] = [],
    fill: (store: Store) => Promise<unknown> = () => Promise.resolve(),
  ) {
    let endMovement: (() => Promise<void>) | undefined;
    before(async () => {
      this.service = await TestService.start({ consoleDirectory: CONSOLE_DIRECTORY, ...options });
      this.store = this.service.client();
      await fill(this.store);
      endMovement = keepMoving(this.store, still);
    });
    after(async () => {
      await endMovement?.();
      await this.service.stop();
    });
  }
}
