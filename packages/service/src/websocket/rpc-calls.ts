import {
  createProblem,
  LIVE_PARAMS,
  RPC_ERRORS,
  RpcCall,
  type LiveMethod,
  type LiveParams,
  type Problem,
  type ProblemError,
} from '@uproar/protocol';
import { parseBody } from '../requests/parse-body.js';
import { describeIssue } from '../requests/problems.js';

/**
 * Reads a message as a call.
 *
 * @throws {RpcFault} if it is not a call
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

/** @throws {RpcFault} if there is no such method */
export function checkMethod(method: string): asserts method is LiveMethod {
  if (Object.hasOwn(LIVE_PARAMS, method)) return;
  const known = Object.keys(LIVE_PARAMS).join(', ');
  const problem = createProblem('bad-request', `The call "${method}" does not exist. The calls are: ${known}.`);
  throw new RpcFault(RPC_ERRORS.methodNotFound, problem);
}

/** @throws {RpcFault} with the pointer of the faulty parameter */
export function checkParams(method: LiveMethod, params: unknown): LiveParams[LiveMethod] {
  const checked = LIVE_PARAMS[method].safeParse(params ?? {});
  if (checked.success) return checked.data;
  const { detail, pointer } = describeIssue(checked.error.issues);
  const problem = createProblem('bad-request', detail, { pointer: `/params${pointer}` });
  throw new RpcFault(RPC_ERRORS.invalidParams, problem);
}

/** The id is searched for in this many bytes at the beginning of a message. */
const ID_WITHIN = 64 * 1024;

/** The id of a call, found without parsing the whole message, so that malformed messages can be answered too. */
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

/** An error with a code of JSON-RPC 2.0 (section 5.1). */
export class RpcFault extends Error {
  constructor(
    readonly code: number,
    readonly problem: Problem,
  ) {
    super(problem.detail);
  }
}
