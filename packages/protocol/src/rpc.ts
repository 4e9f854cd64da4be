import { z } from 'zod';
import type { Problem } from './problems.js';

/** The errors that JSON-RPC 2.0 (section 5.1) defines itself. Other errors carry the HTTP status as their code. */
export const RPC_ERRORS = {
  parse: -32700,
  invalidRequest: -32600,
  methodNotFound: -32601,
  invalidParams: -32602,
} as const;

/** A call (JSON-RPC 2.0, section 4). Calls without an id are not taken: every call here has an answer. */
export const RpcCall = z.looseObject({
  jsonrpc: z.literal('2.0'),
  id: z.union([z.string().max(64), z.int()]),
  method: z.string().max(64),
  params: z.unknown().optional(),
});
export type RpcCall = z.infer<typeof RpcCall>;

/** The `error` member of an answer; `data` is the problem report. */
export interface RpcError {
  code: number;
  message: string;
  data: Problem;
}

/** An answer (JSON-RPC 2.0, section 5). */
export type RpcAnswer =
  | { jsonrpc: '2.0'; id: string | number | null; result: unknown }
  | { jsonrpc: '2.0'; id: string | number | null; error: RpcError };

/** A notification (JSON-RPC 2.0, section 4.1). */
export interface RpcNotification {
  jsonrpc: '2.0';
  method: string;
  params: unknown;
}
