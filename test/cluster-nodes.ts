import type { ServiceOptions } from '@uproar/service';
import { freePort, type Etcd } from './etcd.js';
import { TestService } from './service.js';

/** Starts a node of a cluster, on a directory of its own unless the options name one. */
export async function startNode(
  etcd: Etcd,
  prefix: string,
  options: Partial<ServiceOptions> = {},
): Promise<TestService> {
  const port = await freePort();
  return TestService.start({
    port,
    accounts: 'open',
    cluster: { address: `http://127.0.0.1:${port}`, etcd: { urls: etcd.urls, prefix } },
    ...options,
  });
}
