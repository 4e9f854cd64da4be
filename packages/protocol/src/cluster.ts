import { z } from 'zod';
import { Seq } from './documents.js';

/** A node of a cluster. */
export const ClusterNode = z
  .object({
    node: z.string().describe('Its name, from one start to the next.'),
    address: z.string().describe('Where other nodes and clients reach it.'),
    version: z.string(),
    place: z.int().min(0).describe('The last entry of the log that it has applied.'),
    lag: z.int().describe('How many entries it is behind the furthest node.'),
    seq: Seq,
    clockDifferenceMs: z
      .int()
      .describe('How far its clock is ahead of the clock of the answering node, in milliseconds.'),
    silentMs: z.int().describe('How long ago it last reported, in milliseconds.'),
    differs: z.boolean().describe('Whether its state differs from that of the answering node at the same place.'),
  })
  .meta({ id: 'ClusterNode' });
export type ClusterNode = z.infer<typeof ClusterNode>;

/** The nodes of a cluster, as one of them sees it. */
export const ClusterState = z
  .object({
    node: z.string().describe('The answering node.'),
    store: z.string(),
    place: z.int().min(0).describe('The last place in the log that any node has reported.'),
    nodes: z.array(ClusterNode).describe('The nodes that have reported lately.'),
    staleSince: z.iso
      .datetime()
      .optional()
      .describe(
        'Since when the answering node may lack what others have written, because the log service does not answer.',
      ),
    halted: z.string().optional().describe('Why the answering node does not take part any more.'),
  })
  .meta({ id: 'ClusterState' });
export type ClusterState = z.infer<typeof ClusterState>;
