/** The part of a WebSocket that the client uses; the browser's own and the one of `ws` both have it. */
export interface SocketLike {
  send(text: string): void;
  close(): void;
  onopen: (() => void) | null;
  onmessage: ((event: { data: unknown }) => void) | null;
  onclose: ((event: { code?: number; reason?: string }) => void) | null;
  onerror: ((event: { message?: string }) => void) | null;
}

/** Opens a socket to an address such as `ws://127.0.0.1:4680/v1/live`. */
export type OpenSocket = (url: string) => SocketLike;
