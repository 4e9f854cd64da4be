import { execFileSync } from 'node:child_process';

/** A host of the lab: a network namespace with an address of its own. */
export interface LabHost {
  namespace: string;
  address: string;
  /** What goes before a command so that it runs on the host. */
  prefix: string[];
}

/** The name in front of all namespaces and links, so that nothing else is touched. */
const NAME = 'uprr';

/**
 * Hosts on one machine, each in a network namespace of its own, behind a bridge. It needs root and Debian's `iproute2`. The
 * test itself reaches them over a link of its own; nothing leads to other networks.
 */
export class NetworkLab {
  private constructor(
    private readonly id: string,
    readonly hosts: LabHost[],
  ) {}

  static get isPossible(): boolean {
    if (process.getuid?.() !== 0) return false;
    try {
      execFileSync('ip', ['netns', 'list'], { stdio: 'ignore' });
      return true;
    } catch {
      return false;
    }
  }

  /** Makes a bridge and hosts, with addresses in 10.199.0.0/24. */
  static create(count: number): NetworkLab {
    const id = `${NAME}${process.pid % 10_000}`;
    const hosts = Array.from({ length: count }, (_, n): LabHost => {
      const namespace = `${id}h${n}`;
      return { namespace, address: `10.199.0.${10 + n}`, prefix: ['ip', 'netns', 'exec', namespace] };
    });
    const lab = new NetworkLab(id, hosts);
    try {
      lab.#make();
    } catch (error) {
      lab.remove();
      throw error;
    }
    return lab;
  }

  /** Cuts a host off from all others, or connects it again. */
  setConnected(host: LabHost, connected: boolean): void {
    ip('-n', this.#bridge, 'link', 'set', `p${this.hosts.indexOf(host)}`, connected ? 'up' : 'down');
  }

  /** Lets two hosts not see each other, while both see all others; or lets them see each other again. */
  setSeeing(one: LabHost, other: LabHost, seeing: boolean): void {
    for (const [from, to] of [
      [one, other],
      [other, one],
    ] as const) {
      ip('-n', from.namespace, 'route', seeing ? 'del' : 'add', 'blackhole', `${to.address}/32`);
    }
  }

  /** Removes all namespaces. Processes in them must have ended. */
  remove(): void {
    for (const namespace of [...this.hosts.map((host) => host.namespace), this.#bridge]) {
      try {
        execFileSync('ip', ['netns', 'del', namespace], { stdio: 'ignore' });
      } catch {
        // It was not made.
      }
    }
  }

  get #bridge(): string {
    return `${this.id}b`;
  }

  #make(): void {
    ip('netns', 'add', this.#bridge);
    ip('-n', this.#bridge, 'link', 'add', 'br0', 'type', 'bridge');
    ip('-n', this.#bridge, 'link', 'set', 'br0', 'up');
    for (const [n, { namespace, address }] of this.hosts.entries()) {
      ip('netns', 'add', namespace);
      ip('link', 'add', `p${n}`, 'netns', this.#bridge, 'type', 'veth', 'peer', 'name', 'eth0', 'netns', namespace);
      ip('-n', this.#bridge, 'link', 'set', `p${n}`, 'master', 'br0', 'up');
      ip('-n', namespace, 'address', 'add', `${address}/24`, 'dev', 'eth0');
      ip('-n', namespace, 'link', 'set', 'eth0', 'up');
      ip('-n', namespace, 'link', 'set', 'lo', 'up');
    }
    // The test itself.
    ip('link', 'add', `${this.id}t`, 'type', 'veth', 'peer', 'name', 'ptest', 'netns', this.#bridge);
    ip('-n', this.#bridge, 'link', 'set', 'ptest', 'master', 'br0', 'up');
    ip('address', 'add', '10.199.0.254/24', 'dev', `${this.id}t`);
    ip('link', 'set', `${this.id}t`, 'up');
  }
}

function ip(...args: string[]): void {
  execFileSync('ip', args, { stdio: ['ignore', 'ignore', 'pipe'] });
}

/** Small disks in memory, each at a directory. They need root. */
export class MountedDisks {
  readonly #directories: string[] = [];

  mount(directory: string, bytes: number): void {
    execFileSync('mount', ['-t', 'tmpfs', '-o', `size=${bytes}`, 'tmpfs', directory]);
    this.#directories.push(directory);
  }

  unmount(): void {
    for (const directory of this.#directories.splice(0)) execFileSync('umount', [directory]);
  }
}
