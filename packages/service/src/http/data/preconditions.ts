import type { IncomingHttpHeaders } from 'node:http';
import type { Condition } from '@uproar/core';
import { ProblemError, problemError, problemName } from '@uproar/protocol';

/** A list of entity tags (RFC 9110, section 8.8.3), or `*`. */
type EntityTags = '*' | { tag: string; weak: boolean }[];

const LIST = /^\s*(?:W\/)?"[\x21\x23-\x7e\x80-\xff]*"\s*(?:,\s*(?:W\/)?"[\x21\x23-\x7e\x80-\xff]*"\s*)*$/;
const ONE = /(W\/)?"([\x21\x23-\x7e\x80-\xff]*)"/g;

/** The entity tag of a version. */
export function entityTag(version: number): string {
  return `"${version}"`;
}

/**
 * What `If-Match` and `If-None-Match` ask of a document that is to be written (RFC 9110, sections 13.1.1 and
 * 13.1.2). `If-Match` compares strongly, `If-None-Match` weakly.
 *
 * @param versionOf the version that an entity tag stands for; undefined where it stands for none
 * @throws {ProblemError} `bad-request` when a header is malformed
 */
export function conditionFrom(headers: IncomingHttpHeaders, versionOf = versionOfTag): Condition | undefined {
  const match = parse('If-Match', headers['if-match']);
  const noneMatch = parse('If-None-Match', headers['if-none-match']);
  if (!match && !noneMatch) return undefined;
  const condition: Condition = {};
  if (match === '*') condition.exists = true;
  else if (match)
    condition.versionIn = versions(
      match.filter(({ weak }) => !weak),
      versionOf,
    );
  if (noneMatch === '*') {
    if (condition.exists) condition.versionIn = [];
    else condition.exists = false;
  } else if (noneMatch) condition.versionNotIn = versions(noneMatch, versionOf);
  return condition;
}

/**
 * Evaluates the conditional headers of a read (RFC 9110, section 13.2.2).
 *
 * @param version the version of the document; undefined if it does not exist
 */
export function evaluateReadConditions(
  headers: IncomingHttpHeaders,
  version: number | undefined,
): 'proceed' | 'failed' | 'unchanged' {
  const match = parse('If-Match', headers['if-match']);
  if (match && !has(match, version, false)) return 'failed';
  const noneMatch = parse('If-None-Match', headers['if-none-match']);
  return noneMatch && has(noneMatch, version, true) ? 'unchanged' : 'proceed';
}

function has(tags: EntityTags, version: number | undefined, weakToo: boolean): boolean {
  if (version === undefined) return false;
  if (tags === '*') return true;
  return tags.some(({ tag, weak }) => tag === String(version) && (weakToo || !weak));
}

/** The version in the entity tag of a document. */
export function versionOfTag(tag: string): number | undefined {
  return /^[1-9]\d{0,15}$/.test(tag) ? Number(tag) : undefined;
}

/** A refusal because of the version becomes a failed condition of the request (412). */
export function rejectFailedPrecondition(error: unknown): never {
  if (!(error instanceof ProblemError) || problemName(error.problem) !== 'version-mismatch') throw error;
  const { detail, document, currentVersion, expectedVersion } = error.problem;
  throw problemError('precondition-failed', detail, { document, expectedVersion, currentVersion });
}

function versions(tags: { tag: string }[], versionOf: typeof versionOfTag): number[] {
  return tags.map(({ tag }) => versionOf(tag)).filter((version) => version !== undefined);
}

function parse(name: string, header: string | undefined): EntityTags | undefined {
  if (header === undefined) return undefined;
  if (header.trim() === '*') return '*';
  if (!LIST.test(header)) {
    throw problemError('bad-request', `${name} must be * or versions in double quotes, for example "41".`, {
      parameter: name,
    });
  }
  return [...header.matchAll(ONE)].map(([, weak, tag]) => ({ tag: tag!, weak: weak !== undefined }));
}
