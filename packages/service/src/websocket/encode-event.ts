import type { LiveEvent } from '../live/live-event.js';
import { frameText } from './frame.js';

/** An event as a JSON-RPC 2.0 notification, in a WebSocket frame. */
export function frameEvent(event: LiveEvent): Buffer {
  return frameText(Buffer.from(`{"jsonrpc":"2.0","method":"${event.name}","params":${writeParams(event)}}`));
}

/** A `reset` notification for a client that knows the watch by its previous id. */
export function renamedEvent({ watch, resume, members }: LiveEvent, was: string): string {
  return `{"jsonrpc":"2.0","method":"reset","params":{"watch":"${watch}","was":"${was}","resume":"${resume}",${members}}}`;
}

/** The parameters of an event, and the `result` of the call `watch`. */
export function writeParams({ watch, resume, members }: LiveEvent): string {
  return `{"watch":"${watch}","resume":"${resume}",${members}}`;
}
