import { createHash } from 'node:crypto';
import { formatAddress, formatTime, type Access, type Document, type Query } from '@uproar/core';
import { Webhook } from 'standardwebhooks';
import { formatIdentity } from '../identity/identity.js';
import { kindOfChange, seeChange } from '../reading/see-change.js';
import type { CommitChange } from '../store/index.js';
import type { Post } from './send.js';

/** Hexadecimal digits that tell the changes of one commit apart. */
const ID_DIGITS = 16;

/** An event as it is delivered: the attributes of CloudEvents 1.0, and its data. */
export interface HookEvent {
  attributes: {
    specversion: '1.0';
    /** The same each time the event is sent. */
    id: string;
    source: string;
    type: string;
    subject?: string;
    time: string;
    datacontenttype: 'application/json';
    seq: number;
    commitid?: string;
    identity?: string;
  };
  data: unknown;
}

/** Which changes a hook delivers, and what of them. */
export interface Selection {
  kinds: readonly string[];
  /** The condition and the fields. */
  query: Query;
  hasFields: boolean;
}

/**
 * Makes the event for a change, as a caller with this access sees it.
 *
 * @returns undefined if the hook does not deliver the change
 */
export function eventOf(
  storeId: string,
  change: CommitChange,
  access: Access,
  { kinds, query, hasFields }: Selection,
): HookEvent | undefined {
  const seen = seeChange(access, change);
  if (!seen) return undefined;
  const { before, after } = seen;
  const kind = kindOfChange(seen);
  // Whether it met the condition is not known any more; receivers may have a copy of it.
  if (kind === 'erased' ? change.erased !== 'now' || !kinds.includes('deleted') : !kinds.includes(kind))
    return undefined;
  const meets = (document: Document | undefined) =>
    document !== undefined && query.matches({ document, claims: access.claims }) === true;
  if (kind !== 'erased' && !meets(before) && !meets(after)) return undefined;
  const show = (document: Document | undefined) =>
    document && (hasFields ? { ...document, data: query.show(document).data } : document);
  const subject = formatAddress(change.collection, change.id);
  const digest = createHash('sha256').update(subject).digest('hex').slice(0, ID_DIGITS);
  return {
    attributes: {
      specversion: '1.0',
      id: `${change.seq}-${digest}`,
      source: `/stores/${storeId}`,
      type: `uproar.document.${kind}`,
      subject,
      time: formatTime(change.timeMs),
      datacontenttype: 'application/json',
      seq: change.seq,
      ...(change.commitId === undefined ? {} : { commitid: change.commitId }),
      identity: formatIdentity(change.author),
    },
    data: { before: show(before) ?? null, after: show(after) ?? null },
  };
}

/** The event that names the changes which a receiver does not get, because the journal was cut before. */
export function missedEvent(
  storeId: string,
  { after, upTo }: { after: number; upTo: number },
  timeMs: number,
): HookEvent {
  return own(storeId, 'missed', `missed-${after}-${upTo}`, upTo, timeMs, { after, upTo });
}

/** The event that tries a hook out. */
export function testEvent(storeId: string, hook: string, seq: number, timeMs: number): HookEvent {
  return own(storeId, 'test', `test-${timeMs}`, seq, timeMs, { hook });
}

function own(storeId: string, type: string, id: string, seq: number, timeMs: number, data: unknown): HookEvent {
  return {
    attributes: {
      specversion: '1.0',
      id,
      source: `/stores/${storeId}`,
      type: `uproar.hook.${type}`,
      time: formatTime(timeMs),
      datacontenttype: 'application/json',
      seq,
    },
    data,
  };
}

/** Writes an event as CloudEvents are posted: structured, or binary (CloudEvents HTTP binding, sections 3.1 and 3.2). */
export function encodeEvent({ attributes, data }: HookEvent, format: 'structured' | 'binary'): Post {
  if (format === 'structured') {
    return {
      headers: { 'content-type': 'application/cloudevents+json; charset=utf-8' },
      body: JSON.stringify({ ...attributes, data }),
    };
  }
  const { datacontenttype, ...others } = attributes;
  const headers: Record<string, string> = { 'content-type': datacontenttype };
  for (const [name, value] of Object.entries(others)) headers[`ce-${name}`] = encodeHeader(String(value));
  return { headers, body: JSON.stringify(data) };
}

/** Percent-encodes what a header cannot carry (CloudEvents HTTP binding, section 3.1.3.2). */
function encodeHeader(text: string): string {
  return text.replace(/[^\x21\x23\x24\x26-\x7e]+/g, (part) =>
    [...Buffer.from(part)].map((byte) => `%${byte.toString(16).toUpperCase().padStart(2, '0')}`).join(''),
  );
}

/** Adds the headers of Standard Webhooks. `secrets`: a receiver accepts any signature whose secret it knows. */
export function sign({ headers, body }: Post, id: string, secrets: readonly string[], timeMs: number): Post {
  const time = new Date(timeMs);
  const signatures = secrets.map((secret) => new Webhook(secret).sign(id, time, body));
  return {
    headers: {
      ...headers,
      'webhook-id': id,
      'webhook-timestamp': String(Math.floor(timeMs / 1000)),
      'webhook-signature': signatures.join(' '),
    },
    body,
  };
}
