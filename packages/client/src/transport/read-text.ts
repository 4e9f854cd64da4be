import { ConnectionError } from './link.js';

/**
 * Reads the body of a response, piece by piece as text.
 *
 * @throws {ConnectionError} when the connection breaks
 */
export async function* readText(response: Response): AsyncGenerator<string> {
  const decoder = new TextDecoder();
  const reader = response.body!.getReader();
  try {
    for (let piece = await reader.read(); !piece.done; piece = await reader.read())
      yield decoder.decode(piece.value, { stream: true });
  } catch {
    throw new ConnectionError('The connection broke before the answer was complete.');
  } finally {
    // A reader that stops early also stops the service.
    reader.cancel().catch(() => undefined);
  }
}
