import { lookup } from 'node:dns/promises';
import { problemError, type ProblemError } from '@uproar/protocol';
import ipaddr from 'ipaddr.js';

/** How long the addresses of a name are kept, in milliseconds. */
const KEPT_MS = 10_000;
const MAX_NAMES = 1000;

/** An IP address, and its family. */
export interface ResolvedAddress {
  address: string;
  family: number;
}

type Resolve = (name: string) => Promise<ResolvedAddress[]>;

/**
 * Which addresses hooks may reach: public ones, and those of networks that a setting names. A name is resolved once for a
 * connection, and the connection goes to an address that was checked, so a name cannot change in between.
 */
export class ReachableAddresses {
  readonly #networks: [ipaddr.IPv4 | ipaddr.IPv6, number][];
  readonly #resolve: Resolve;
  readonly #known = new Map<string, { addresses: ResolvedAddress[]; untilMs: number }>();
  /** Looking up a name blocks a thread that syncs need, too, so only one is looked up at a time. */
  #turn: Promise<unknown> = Promise.resolve();

  /**
   * @param networks networks that are not public, such as `10.0.0.0/8`
   * @throws {RangeError} for something else
   */
  constructor(networks: readonly string[] = [], resolve: Resolve = (name) => lookup(name, { all: true })) {
    this.#networks = networks.map(readNetwork);
    this.#resolve = resolve;
  }

  /**
   * Checks an address as far as that is possible without resolving its name.
   *
   * @throws {ProblemError} `address-refused`
   */
  check(text: string): URL {
    const refuse = (detail: string): ProblemError => problemError('address-refused', detail, { pointer: '/url' });
    if (!URL.canParse(text)) throw refuse('The address of a hook is a URL such as https://receiver.example/changes.');
    const url = new URL(text);
    if (url.protocol !== 'https:' && url.protocol !== 'http:') throw refuse('Hooks deliver by https, or by http.');
    if (url.username !== '' || url.password !== '') {
      throw refuse('The address of a hook has no name and password. Receivers check the signature.');
    }
    if (url.hash !== '') throw refuse('The address of a hook has no fragment ("#…").');
    if (url.protocol === 'http:' && this.#networks.length === 0) {
      throw refuse('Hooks deliver by https. By http only to networks that the setting hook-networks names.');
    }
    const literal = literalOf(url);
    if (literal !== undefined) this.#check(literal, url.protocol === 'http:');
    return url;
  }

  /**
   * The addresses of the host of a URL that may be connected to.
   *
   * @throws {ProblemError} `address-refused` if one of its addresses may not be reached
   * @throws {Error} when the name cannot be resolved
   */
  async addressesOf(url: URL): Promise<ResolvedAddress[]> {
    const literal = literalOf(url);
    const found = literal === undefined ? await this.#lookUp(url.hostname) : [resolved(literal)];
    for (const { address } of found) this.#check(address, url.protocol === 'http:');
    return found;
  }

  async #lookUp(name: string): Promise<ResolvedAddress[]> {
    const known = this.#known.get(name);
    if (known && known.untilMs > performance.now()) return known.addresses;
    const turn = this.#turn.then(() => this.#resolve(name));
    this.#turn = turn.catch(() => undefined);
    const addresses = await turn;
    if (addresses.length === 0) throw new Error(`The name ${name} has no address.`);
    if (this.#known.size >= MAX_NAMES) this.#known.clear();
    this.#known.set(name, { addresses, untilMs: performance.now() + KEPT_MS });
    return addresses;
  }

  #check(text: string, plain: boolean): void {
    // An IPv4 address written as one of IPv6 is what it stands for.
    const address = ipaddr.process(text);
    const named = this.#networks.some(
      ([network, bits]) => network.kind() === address.kind() && address.match(network, bits),
    );
    if (named || (!plain && address.range() === 'unicast')) return;
    throw problemError(
      'address-refused',
      plain
        ? `By http, hooks only deliver to networks that the setting hook-networks names; ${text} is in none of them.`
        : `${text} is not a public address. The setting hook-networks can name the networks that hooks may reach.`,
      { pointer: '/url' },
    );
  }
}

function readNetwork(text: string): [ipaddr.IPv4 | ipaddr.IPv6, number] {
  if (ipaddr.isValidCIDR(text)) return ipaddr.parseCIDR(text);
  if (!ipaddr.isValid(text)) throw new RangeError(`"${text}" is no network. Write 10.0.0.0/8 or fd00::/8.`);
  const address = ipaddr.parse(text);
  return [address, address.kind() === 'ipv4' ? 32 : 128];
}

/** The address that stands in a URL instead of a name. */
function literalOf({ hostname }: URL): string | undefined {
  const bare = hostname.replace(/^\[|\]$/g, '');
  return ipaddr.isValid(bare) ? bare : undefined;
}

function resolved(address: string): ResolvedAddress {
  return { address, family: ipaddr.parse(address).kind() === 'ipv4' ? 4 : 6 };
}
