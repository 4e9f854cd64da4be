import type { LiveEvent } from '../live/live-event.js';
import { frameAround, frameMiddle, frameText } from './frame.js';

/** An event as a JSON-RPC 2.0 notification, in WebSocket frames. */
export function frameEvent(event: LiveEvent): Buffer[] {
  return frameParams(`{"jsonrpc":"2.0","method":"${event.name}","params":{`, event);
}

/** The first event as the answer to the call `watch`. */
export function frameAnswer(id: string | number, event: LiveEvent): Buffer[] {
  return frameParams(`{"jsonrpc":"2.0","id":${JSON.stringify(id)},"result":{`, event);
}

/** A `reset` notification for a client that knows the watch by its previous id. */
export function frameRenamed(event: LiveEvent, was: string): Buffer[] {
  return frameParams(`{"jsonrpc":"2.0","method":"reset","params":{"was":"${was}",`, event);
}

function frameParams(before: string, { watch, resume, start, state }: LiveEvent): Buffer[] {
  const head = `${before}"watch":"${watch}","resume":"${resume}",${start}`;
  return state?.isWorthSharing
    ? frameAround(head, state.encodedBy(frameMiddle), '}}')
    : [frameText(`${head}${state?.text ?? ''}}}`)];
}
