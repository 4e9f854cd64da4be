import { createProblem, RPC_ERRORS, RpcCall, type Problem, type ProblemError } from '@uproar/protocol';
import { parseBody } from '../requests/parse-body.js';
import { describeIssue } from '../requests/problems.js';

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
    const problem = createProblem('bad-request', `This is not a JSON-RPC 2.0 call: ${detail}`, { pointer });
    throw new RpcFault(RPC_ERRORS.invalidRequest, problem);
  }
  return call.data;
}

/** The id of a call is searched in this many bytes at the beginning. */
const ID_WITHIN = 64 * 1024;

/** The id of a call, found without parsing the message, so that one which cannot be parsed can still be answered. */
export function findCallId(message: Buffer): string | number | undefined {
  const text = message.toString('utf8', 0, Math.min(message.length, ID_WITHIN));
  const token = /"(?:[^"\\]|\\.)*"|[{}[\]:,]|[^\s{}[\]:,"]+/gsy;
  const skipSpace = /\s*/y;
  let depth = 0;
  let name: string | undefined;
  let isValue = false;
  for (let at = 0; at < text.length;) {
    skipSpace.lastIndex = at;
    token.lastIndex = at + skipSpace.exec(text)![0].length;
    const found = token.exec(text)?.[0];
    if (found === undefined) return undefined;
    at = token.lastIndex;
    if (found === '{' || found === '[') depth++;
    else if (found === '}' || found === ']') depth--;
    else if (found === ':' && depth === 1) isValue = true;
    else if (found === ',' && depth === 1) [name, isValue] = [undefined, false];
    else if (depth === 1 && isValue && name === '"id"') return readId(found);
    else if (depth === 1 && !isValue) name = found;
  }
  return undefined;
}

function readId(text: string): string | number | undefined {
  try {
    const id: unknown = JSON.parse(text);
    return typeof id === 'string' || Number.isInteger(id) ? (id as string | number) : undefined;
  } catch {
    return undefined;
  }
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
