import { z } from 'zod';
import { Seq, WireDocument } from './documents.js';

/** The types of the events of the journal. */
export const JOURNAL_EVENT_TYPES = [
  'uproar.document.created',
  'uproar.document.updated',
  'uproar.document.deleted',
  'uproar.document.erased',
] as const;

/** A document as it was written: nothing that is related comes with it. */
export const StoredDocument = WireDocument.omit({ related: true });

/** A change of one document as an event (CloudEvents 1.0, JSON format). */
export const JournalEvent = z
  .object({
    specversion: z.literal('1.0'),
    id: z.string().describe('The seq of the commit and the place of the change in it.'),
    source: z.string().describe('Names the store.'),
    type: z
      .enum(JOURNAL_EVENT_TYPES)
      .describe('`erased`: the contents of this change were erased, or this commit erased the document with its past.'),
    subject: z.string().describe('The document, as `collection/id`.'),
    time: z.iso.datetime(),
    datacontenttype: z.literal('application/json'),
    seq: Seq,
    commitid: z.string().optional().describe('The id of the commit.'),
    identity: z.string().describe('Who made the commit.'),
    data: z.object({
      before: StoredDocument.nullable().describe('The document before, or null.'),
      after: StoredDocument.nullable().describe('The document after, or null.'),
    }),
  })
  .meta({ id: 'JournalEvent' });
export type JournalEvent = z.infer<typeof JournalEvent>;

/** A page of the journal. */
export const JournalPage = z
  .object({
    events: z.array(JournalEvent),
    seq: Seq.describe('The end of this page: `after` (or `before`) for the next page.'),
    more: z.boolean(),
    first: Seq.describe('The oldest seq that the journal still holds.'),
  })
  .meta({ id: 'JournalPage' });
export type JournalPage = z.infer<typeof JournalPage>;
