/** Where generated ids get their time and their randomness from. */
export interface IdSources {
  /** Milliseconds since 1970; may stand still or step back. */
  now(): number;
  /** Fills `bytes` with random values. */
  random(bytes: Uint8Array): void;
}

const SEQUENCE_COUNT = 0x4000000;

/**
 * Makes a generator of UUIDs of version 7 (RFC 9562, section 5.7). The ids of one generator are strictly increasing as
 * strings: after the milliseconds there is a 26-bit sequence (section 6.2, method 1). It starts at a random value in its
 * lower half in each millisecond, and counts up while the clock stands still or has stepped back. When the sequence is
 * exhausted, it borrows the next millisecond. The package `uuid` would make the client for browsers half a kilobyte
 * larger.
 *
 * @param notBeforeMs the ids have a later time than this, even if the clock is behind
 */
export function createIdGenerator(sources: IdSources, notBeforeMs = -1): () => string {
  let lastMs = notBeforeMs + 1;
  let sequence = 0;
  const bytes = new Uint8Array(16);
  return () => {
    sources.random(bytes);
    const now = sources.now();
    if (now > lastMs) {
      lastMs = now;
      sequence = ((bytes[0]! << 17) | (bytes[1]! << 9) | (bytes[2]! << 1)) & (SEQUENCE_COUNT / 2 - 1);
    } else if (++sequence === SEQUENCE_COUNT) {
      lastMs++;
      sequence = 0;
    }
    bytes[0] = Math.floor(lastMs / 0x10000000000);
    bytes[1] = Math.floor(lastMs / 0x100000000);
    bytes[2] = Math.floor(lastMs / 0x1000000);
    bytes[3] = Math.floor(lastMs / 0x10000);
    bytes[4] = Math.floor(lastMs / 0x100);
    bytes[5] = lastMs;
    bytes[6] = 0x70 | (sequence >>> 22);
    bytes[7] = sequence >>> 14;
    bytes[8] = 0x80 | ((sequence >>> 8) & 0x3f);
    bytes[9] = sequence;
    const hex = Array.from(bytes, (byte) => byte.toString(16).padStart(2, '0')).join('');
    return `${hex.slice(0, 8)}-${hex.slice(8, 12)}-${hex.slice(12, 16)}-${hex.slice(16, 20)}-${hex.slice(20)}`;
  };
}
