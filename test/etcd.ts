import { spawn, type ChildProcess } from 'node:child_process';
import { once } from 'node:events';
import { readdirSync, readFileSync, rmSync } from 'node:fs';
import { createServer, type AddressInfo } from 'node:net';
import { join } from 'node:path';
import { temporaryDirectory, until } from './service.js';

/** A port that is free now. */
export async function freePort(): Promise<number> {
  const server = createServer().listen(0, '127.0.0.1');
  await once(server, 'listening');
  const { port } = server.address() as AddressInfo;
  server.close();
  await once(server, 'close');
  return port;
}

export interface Member {
  name: string;
  clientUrl: string;
  peerUrl: string;
  process: ChildProcess | undefined;
  /** What goes before its command. */
  prefix: readonly string[];
}

/** Where a member runs. */
export interface MemberHost {
  address: string;
  prefix: readonly string[];
}

const HERE: MemberHost = { address: '127.0.0.1', prefix: [] };

/** Members of etcd for a test, over loopback, in directories of their own. */
export class Etcd {
  private readonly directory = temporaryDirectory();
  private constructor(
    readonly members: Member[],
    private readonly options: Record<string, string>,
  ) {}

  /**
   * @param options more options of each member
   * @param hosts where each runs; by default on this machine
   */
  static async start(
    count: number,
    options: Record<string, string> = {},
    hosts: readonly MemberHost[] = [],
  ): Promise<Etcd> {
    const members: Member[] = [];
    for (let n = 1; n <= count; n++) {
      const [client, peer] = [await freePort(), await freePort()];
      const { address, prefix } = hosts[n - 1] ?? HERE;
      members.push({
        name: `e${n}`,
        clientUrl: `http://${address}:${client}`,
        peerUrl: `http://${address}:${peer}`,
        process: undefined,
        prefix,
      });
    }
    const etcd = new Etcd(members, options);
    for (const member of members) etcd.startMember(member);
    await etcd.ready();
    return etcd;
  }

  get urls(): string[] {
    return this.members.map(({ clientUrl }) => clientUrl);
  }

  /** Starts a member, with the data that it has. */
  startMember(member: Member, state: 'new' | 'existing' = 'new'): void {
    const { name, clientUrl, peerUrl } = member;
    const options = {
      name,
      'data-dir': join(this.directory.path, name),
      'listen-client-urls': clientUrl,
      'advertise-client-urls': clientUrl,
      'listen-peer-urls': peerUrl,
      'initial-advertise-peer-urls': peerUrl,
      'initial-cluster': this.members.map((other) => `${other.name}=${other.peerUrl}`).join(','),
      'initial-cluster-state': state,
      'log-level': 'error',
      // A test machine may be busy.
      'heartbeat-interval': '200',
      'election-timeout': '2000',
      ...this.options,
    };
    const args = Object.entries(options).flatMap(([option, value]) => [`--${option}`, value]);
    const [command, ...rest] = [...member.prefix, 'etcd', ...args];
    member.process = spawn(command!, rest, { stdio: 'ignore' });
  }

  /** Resolves when the members answer. */
  async ready(): Promise<void> {
    for (const { clientUrl } of this.members) {
      await until(`etcd answers at ${clientUrl}`, async () => {
        const response = await fetch(`${clientUrl}/health`).catch(() => undefined);
        return response !== undefined && ((await response.json()) as { health: string }).health === 'true';
      });
    }
  }

  /** Ends a member, loses its data, and adds one in its place, as after a broken disk. */
  async replaceMember(member: Member): Promise<void> {
    await this.killMember(member);
    rmSync(join(this.directory.path, member.name), { recursive: true });
    const { clientUrl } = this.members.find((other) => other !== member && other.process)!;
    const call = async (path: string, body: object) => {
      const request = { method: 'POST', body: JSON.stringify(body), signal: AbortSignal.timeout(3000) };
      const response = await fetch(`${clientUrl}/v3/cluster/${path}`, request).catch(() => undefined);
      return response?.ok ? ((await response.json()) as { members: { ID: string; peerURLs: string[] }[] }) : undefined;
    };
    let lost: string | undefined;
    // While a leader is elected, nothing can be changed.
    await until('the lost member is removed', async () => {
      const { members } = (await call('member/list', {})) ?? { members: [] };
      if (members.length === 0) return false;
      lost = members.find(({ peerURLs }) => peerURLs.includes(member.peerUrl))?.ID;
      return lost === undefined || (await call('member/remove', { ID: lost })) !== undefined;
    });
    await until(
      'another is added',
      async () => (await call('member/add', { peerURLs: [member.peerUrl] })) !== undefined,
    );
    await until('the new member answers', async () => {
      // It ends if the member that it asks does not know of it yet.
      if (!member.process || member.process.exitCode !== null) {
        rmSync(join(this.directory.path, member.name), { recursive: true, force: true });
        this.startMember(member, 'existing');
      }
      return (await fetch(`${member.clientUrl}/health`).catch(() => undefined))?.ok ?? false;
    });
    await this.ready();
  }

  /** The member that leads. */
  async leader(): Promise<Member> {
    for (const member of this.members) {
      const response = await fetch(`${member.clientUrl}/v3/maintenance/status`, { method: 'POST', body: '{}' });
      const { leader, header } = (await response.json()) as { leader: string; header: { member_id: string } };
      if (leader === header.member_id) return member;
    }
    throw new Error('etcd has no leader.');
  }

  async stop(): Promise<void> {
    for (const member of this.members) await this.killMember(member);
    this.directory.remove();
  }

  /** Stops a member without ending it. Resolves when it stands still. */
  async pauseMember({ process }: Member): Promise<void> {
    process!.kill('SIGSTOP');
    // All its threads must have got the signal.
    const tasks = `/proc/${process!.pid}/task`;
    const stateOf = (task: string) => /\) (.)/.exec(readFileSync(`${tasks}/${task}/stat`, 'utf8'))?.[1];
    await until('the member stands still', () => readdirSync(tasks).every((task) => stateOf(task) === 'T'));
  }

  resumeMember({ process }: Member): void {
    process?.kill('SIGCONT');
  }

  async killMember(member: Member): Promise<void> {
    const { process } = member;
    if (!process || process.exitCode !== null) return;
    const ended = once(process, 'exit');
    process.kill('SIGKILL');
    await ended;
    member.process = undefined;
  }
}
