import { z } from 'zod';
import { Seq } from './documents.js';

/** A node of a cluster. */
export const ClusterNode = z
  .object({
    node: z.string().describe('Its name, from one start to the next.'),
    address: z.string().describe('Where other nodes and clients reach it.'),
    version: z.string(),
    place: z.int().min(0).describe('The last entry of the log that it has applied.'),
    lag: z.int().min(0).describe('How many entries of the log it had not applied when it last reported.'),
    seq: Seq,
    clockDifferenceMs: z
      .int()
      .describe('How far its clock is ahead of the clock of the answering node, in milliseconds.'),
    silentMs: z.int().describe('How long ago it last reported, in milliseconds.'),
    storage: z.string().optional().describe('Why it cannot write to its disk.'),
    differs: z.boolean().describe('Whether its state differs from that of the answering node at the same place.'),
  })
  .meta({ id: 'ClusterNode' });
export type ClusterNode = z.infer<typeof ClusterNode>;

/** A member of etcd, as the answering node reaches it. */
export const EtcdMember = z
  .object({
    address: z.string(),
    answers: z.boolean(),
    leads: z.boolean().describe('Whether it leads the others.'),
    hasLeader: z.boolean().describe('Whether it knows a leader: without one, nothing can be written.'),
    version: z.string().optional(),
    sizeBytes: z.int().optional().describe('The size of its data on disk.'),
    alarms: z
      .array(z.enum(['no-space', 'corrupt']))
      .describe('`no-space`: its quota is used up, and it takes no writes. `corrupt`: its data is damaged.'),
  })
  .meta({ id: 'EtcdMember' });
export type EtcdMember = z.infer<typeof EtcdMember>;

/** Whether etcd takes the largest entries of the log. */
export const EtcdTrial = z
  .object({
    taken: z.boolean(),
    tookMs: z.number().optional().describe('How long it took, in milliseconds.'),
    reason: z.string().optional().describe('Why it was not taken.'),
  })
  .meta({ id: 'EtcdTrial' });
export type EtcdTrial = z.infer<typeof EtcdTrial>;

/** The nodes of a cluster, as one of them sees it. */
export const ClusterState = z
  .object({
    node: z.string().describe('The answering node.'),
    store: z.string(),
    place: z.int().min(0).describe('The last place in the log that any node has reported.'),
    nodes: z.array(ClusterNode).describe('The nodes that have reported lately.'),
    leases: z
      .array(
        z.object({
          work: z
            .enum(['maintenance', 'hooks'])
            .describe(
              '`maintenance`: cutting the journal, and removing what has expired; `hooks`: delivering to hooks.',
            ),
          node: z.string(),
        }),
      )
      .describe('Which node does the work that one node does for all.'),
    etcd: z.array(EtcdMember).describe('The members of etcd.'),
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
