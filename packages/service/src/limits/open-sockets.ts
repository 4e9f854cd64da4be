import type { Server } from 'node:http';
import type { Socket } from 'node:net';
import type { ByteBudget } from './byte-budget.js';
import type { BudgetLimits } from './limits.js';

/** How often all sockets are checked, in milliseconds. */
const SWEEP_MS = 500;

/** A message may take so long from its first to its last byte. */
const MESSAGE_MS = 120_000;

/** TCP connections are accepted up to this many beyond the limits, so that they get a problem as an answer. */
const ROOM_TO_ANSWER = 1000;

interface OpenSocket {
  readonly socket: Socket;
  readonly address: string;
  readonly acceptedMs: number;
  /** Whether a request has arrived. */
  used: boolean;
  /** The identity or address that memory is counted for. */
  holder: string;
  /** What waits to be handed over to it, in bytes. */
  waiting: () => number;
  written: number;
  /** Since when nothing of what waits has been read; undefined while nothing waits. */
  stalledMs: number | undefined;
  /** Bytes of a message that has not ended yet, and when it began. */
  unfinished: number;
  unfinishedMs: number;
}

/** Why connections were ended. */
export type EndReason = 'idle' | 'unread' | 'too-much-unread' | 'unfinished' | 'limit-reached';

/**
 * All sockets of the server, from the moment they are accepted. Closes sockets that send no request, do not read, or hold
 * too much memory.
 */
export class OpenSockets {
  readonly #sockets = new Map<Socket, OpenSocket>();
  readonly #perAddress = new Map<string, number>();
  readonly #limits: BudgetLimits;
  readonly #budget: ByteBudget;
  readonly #most: () => { total: number; perAddress: number };
  #timer: NodeJS.Timeout | undefined;
  /** How many connections were ended, by the reason. */
  readonly ended: Record<EndReason, number> = {
    idle: 0,
    unread: 0,
    'too-much-unread': 0,
    unfinished: 0,
    'limit-reached': 0,
  };
  /** Called for each connection that is closed. */
  onEnd: (address: string, holder: string, reason: EndReason) => void = () => undefined;

  /** @param most how many connections there may be */
  constructor(limits: BudgetLimits, budget: ByteBudget, most: () => { total: number; perAddress: number }) {
    this.#limits = limits;
    this.#budget = budget;
    this.#most = most;
  }

  get size(): number {
    return this.#sockets.size;
  }

  /** Begins to look after the sockets of a server. */
  watch(server: Server): void {
    server.on('connection', (socket: Socket) => this.#accept(socket));
    server.on('secureConnection', (socket: Socket) => this.#add(socket));
    server.on('request', ({ socket }) => this.#use(socket));
    server.on('upgrade', ({ socket }) => this.#use(socket));
    this.#timer = setInterval(() => this.#sweep(), SWEEP_MS).unref();
  }

  close(): void {
    clearInterval(this.#timer);
  }

  /** Says for whom what a socket holds is counted. */
  identify(socket: Socket, holder: string): void {
    const open = this.#sockets.get(socket);
    if (open) open.holder = holder;
  }

  /** Says how many bytes wait to be handed over to a socket. */
  count(socket: Socket, waiting: () => number): void {
    const open = this.#sockets.get(socket);
    if (open) open.waiting = waiting;
  }

  /** Notes bytes of a message that has not ended; 0 when it has. */
  noteUnfinished(socket: Socket, bytes: number): void {
    const open = this.#sockets.get(socket);
    if (!open) return;
    if (open.unfinished === 0 || bytes === 0) open.unfinishedMs = performance.now();
    open.unfinished = bytes;
  }

  #accept(socket: Socket): void {
    if (this.#sockets.has(socket)) return;
    const { total, perAddress } = this.#most();
    const address = socket.remoteAddress ?? '';
    const fromThere = this.#perAddress.get(address) ?? 0;
    if (this.#sockets.size >= total + ROOM_TO_ANSWER || fromThere >= perAddress + ROOM_TO_ANSWER) {
      this.ended['limit-reached']++;
      this.onEnd(address, address, 'limit-reached');
      socket.destroy();
      return;
    }
    this.#perAddress.set(address, fromThere + 1);
    this.#add(socket);
    socket.once('close', () => {
      const left = (this.#perAddress.get(address) ?? 1) - 1;
      if (left > 0) this.#perAddress.set(address, left);
      else this.#perAddress.delete(address);
    });
  }

  /** A socket whose upgrade was ignored is handed to the server once more; it is known already. */
  #add(socket: Socket): void {
    if (this.#sockets.has(socket)) return;
    const address = socket.remoteAddress ?? '';
    this.#sockets.set(socket, {
      socket,
      address,
      acceptedMs: performance.now(),
      used: false,
      holder: address,
      waiting: () => 0,
      written: 0,
      stalledMs: undefined,
      unfinished: 0,
      unfinishedMs: 0,
    });
    socket.once('close', () => this.#sockets.delete(socket));
  }

  /** Below a TLS connection there is a plain one, which is never asked by itself. */
  #use(socket: Socket): void {
    for (const one of [socket, (socket as { _parent?: Socket })._parent]) {
      const open = one && this.#sockets.get(one);
      if (open) open.used = true;
    }
  }

  #sweep(): void {
    const now = performance.now();
    const unread = new Map<string, number>();
    const heavy: OpenSocket[] = [];
    for (const open of this.#sockets.values()) {
      const reason = this.#reasonToEnd(open, now);
      if (reason) {
        this.#end(open, reason);
        continue;
      }
      const held = heldBy(open);
      if (held === 0) continue;
      unread.set(open.holder, (unread.get(open.holder) ?? 0) + held);
      heavy.push(open);
    }
    this.#relieve(heavy, unread);
    this.#budget.noteUnread(unread);
  }

  #reasonToEnd(open: OpenSocket, now: number): EndReason | undefined {
    const { socket } = open;
    if (!open.used && now - open.acceptedMs > this.#limits.idleMs) return 'idle';
    if (open.unfinished > 0 && now - open.unfinishedMs > MESSAGE_MS) return 'unfinished';
    if (socket.writableLength === 0 || socket.bytesWritten - socket.writableLength !== open.written) {
      open.written = socket.bytesWritten - socket.writableLength;
      open.stalledMs = undefined;
      return undefined;
    }
    open.stalledMs ??= now;
    return now - open.stalledMs > this.#limits.unreadMs ? 'unread' : undefined;
  }

  /** Ends the connections that hold most, as long as one holder or all together hold too much. */
  #relieve(heavy: OpenSocket[], unread: Map<string, number>): void {
    const { identityBytes, processBytes } = this.#limits;
    let total = 0;
    for (const bytes of unread.values()) total += bytes;
    heavy.sort((a, b) => heldBy(b) - heldBy(a));
    for (const open of heavy) {
      const ofHolder = unread.get(open.holder)!;
      if (ofHolder <= identityBytes && total <= processBytes) continue;
      const held = heldBy(open);
      unread.set(open.holder, ofHolder - held);
      total -= held;
      this.#end(open, 'too-much-unread');
    }
  }

  #end({ socket, address, holder }: OpenSocket, reason: EndReason): void {
    this.ended[reason]++;
    this.onEnd(address, holder, reason);
    socket.destroy();
    this.#sockets.delete(socket);
  }
}

function heldBy({ socket, waiting, unfinished }: OpenSocket): number {
  return socket.writableLength + waiting() + unfinished;
}
