import { Etcd3, type IAlarmMember } from 'etcd3';
import type { EtcdMember } from '@uproar/protocol';
import { connectionOptions, type EtcdOptions } from './etcd-connection.js';

/** An answer is shown for this time, so that many who ask cost no more than one, in milliseconds. */
const KEPT_MS = 1000;

/** Asks each member of the log service how it is. */
export class EtcdMembers {
  readonly #options: EtcdOptions;
  /** One client for each member; connected when first asked. */
  #clients: { address: string; client: Etcd3 }[] | undefined;
  #latest: { atMs: number; members: Promise<EtcdMember[]> } | undefined;

  constructor(options: EtcdOptions) {
    this.#options = options;
  }

  /** The state of each member, also of those that do not answer in time. */
  look(): Promise<EtcdMember[]> {
    const now = performance.now();
    if (!this.#latest || now - this.#latest.atMs > KEPT_MS) {
      this.#clients ??= this.#options.urls.map((address) => ({
        address,
        client: new Etcd3(connectionOptions(this.#options, [address], false)),
      }));
      const members = Promise.all(this.#clients.map(({ address, client }) => lookAt(address, client)));
      this.#latest = { atMs: now, members };
    }
    return this.#latest.members;
  }

  close(): void {
    for (const { client } of this.#clients ?? []) client.close();
    this.#clients = undefined;
  }
}

async function lookAt(address: string, client: Etcd3): Promise<EtcdMember> {
  try {
    const { header, version, leader, dbSize } = await client.maintenance.status();
    const { alarms } = await client.maintenance.alarm({ action: 'Get', memberID: '0', alarm: 'None' });
    return {
      address,
      answers: true,
      leads: leader === header.member_id,
      hasLeader: leader !== '0',
      version,
      sizeBytes: Number(dbSize),
      alarms: alarms.filter(({ memberID }) => memberID === header.member_id).map(describeAlarm),
    };
  } catch {
    return { address, answers: false, leads: false, hasLeader: false, alarms: [] };
  }
}

function describeAlarm({ alarm }: IAlarmMember): EtcdMember['alarms'][number] {
  return /nospace/i.test(String(alarm)) ? 'no-space' : 'corrupt';
}
