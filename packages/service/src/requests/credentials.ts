import { ProblemError, type Problem } from '@uproar/protocol';
import type { Audit } from '../identity/audit.js';
import type { Context } from './context.js';

/** The key or token in an `Authorization` header (RFC 6750, section 2.1). */
export function readBearer(header: string | undefined): string | undefined {
  return /^Bearer +([\x21-\x7e]+) *$/i.exec(header ?? '')?.[1];
}

/** Keeps a note of something that was refused. */
export function auditRefusal(
  audit: Audit,
  { type, detail }: Problem,
  identity: string,
  { ip, id }: { ip: string; id: string },
  to: string,
): void {
  const problem = type.split('/').at(-1)!;
  audit.add({ event: 'refused', identity, address: ip, request: id, detail: { problem, to, detail } });
}

/** Counts an attempt to be recognised that failed, and keeps a note of it. */
export async function auditFailure(
  { identities, rates }: Pick<Context, 'identities' | 'rates'>,
  error: unknown,
  address: string,
  request: string,
): Promise<void> {
  // A store that asks for a key says so to many who only did not know; that is no attempt.
  if (!(error instanceof ProblemError) || error.problem.type.endsWith('/key-missing')) return;
  if (error.problem.status !== 401) return;
  await rates.countFailure(address);
  identities.audit.add({
    event: 'not-recognised',
    identity: 'unknown',
    address,
    request,
    detail: { problem: error.problem.type.split('/').at(-1)!, detail: error.problem.detail },
  });
}
