import { createProblem, RPC_ERRORS, RpcCall, type Problem, type ProblemError } from '@uproar/protocol';
import { parseBody } from '../http/body-parser.js';
import { describeIssue } from '../http/errors.js';

/**
 * Reads a message as a call.
 *
 * @throws {RpcFault} when it is none
 */
export function readCall(message: Buffer): RpcCall {
  let value: unknown;
  try {
    value = parseBody(message);
  } catch (error) {
    throw new RpcFault(RPC_ERRORS.parse, (error as ProblemError).problem);
  }
  const call = RpcCall.safeParse(value);
  if (!call.success) {
    const { detail, pointer } = describeIssue(call.error.issues);
    const problem = createProblem('bad-request', `This is no JSON-RPC 2.0 call: ${detail}`, { pointer });
    throw new RpcFault(RPC_ERRORS.invalidRequest, problem);
  }
  return call.data;
}

/** An error that JSON-RPC 2.0 has a code of its own for. */
export class RpcFault extends Error {
  constructor(
    readonly code: number,
    readonly problem: Problem,
  ) {
    super(problem.detail);
  }
}
