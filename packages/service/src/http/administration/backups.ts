import { BackupRecord, Problem, Seq, problemError } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import { z } from 'zod';
import { listBackups, MOST_BACKUPS } from '../../reading/backup-records.js';
import type { BackupInfo } from '../../store/index.js';
import type { Context } from '../../requests/context.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type BackupsContext = Pick<Context, 'store'>;

const tags = ['administration'];

const Backup = z
  .object({
    id: z.string(),
    state: z.enum(['copying', 'hashing', 'ready', 'failed']),
    progress: z.number().min(0).max(1).describe('The share that has been copied.'),
    seq: Seq.optional().describe('The seq of the state that the backup contains, once it is ready.'),
    sizeBytes: z.int().optional(),
    sha256: z.string().optional().describe('In hexadecimal digits.'),
    reason: z.string().optional().describe('Why it failed.'),
  })
  .meta({ id: 'Backup' });

const Params = z.object({ id: z.string().max(64) });

/** Backups: begun, looked after until they are ready, fetched, removed. */
export function serveBackups(app: FastifyInstance, context: BackupsContext): void {
  const routes = withSchemas(app);
  serveListBackups(routes, context);
  serveStartBackup(routes, context);
  serveReadBackup(routes, context);
  serveDownloadBackup(routes, context);
  serveRemoveBackup(routes, context);
}

function serveListBackups(routes: Routes, { store }: BackupsContext): void {
  routes.get(
    '/v1/backups',
    {
      config: { admin: true },
      schema: {
        operationId: 'listBackups',
        tags,
        summary: 'List the backups that were made, newest first',
        description: 'The store remembers the last 1000 backups. It does not know where their files are kept.',
        querystring: z.strictObject({ limit: z.coerce.number().int().min(1).max(MOST_BACKUPS).default(100) }),
        response: { 200: z.object({ backups: z.array(BackupRecord) }), default: Problem },
      },
    },
    (request) => ({
      backups: listBackups(store.reads, { from: 0, before: Number.MAX_SAFE_INTEGER }, request.query.limit),
    }),
  );
}

function serveStartBackup(routes: Routes, { store }: BackupsContext): void {
  routes.post(
    '/v1/backups',
    {
      config: { admin: true },
      schema: {
        operationId: 'createBackup',
        tags,
        summary: 'Begin a backup',
        description:
          'Copies the store while it is in use. Poll the backup until it is `ready`, download its content, then delete it; ' +
          'it is deleted automatically after an hour.',
        response: { 202: Backup, default: Problem },
      },
    },
    async (request, reply) => {
      // So that it holds nothing of what was erased.
      await store.rewrites.run();
      const info = store.backups.start(request.identity.author);
      if (!info) throw problemError('overloaded', 'Two backups exist already. Download or delete one of them first.');
      return reply.code(202).header('location', `/v1/backups/${info.id}`).send(info);
    },
  );
}

function serveReadBackup(routes: Routes, { store }: BackupsContext): void {
  routes.get(
    '/v1/backups/:id',
    {
      config: { admin: true },
      schema: {
        operationId: 'getBackup',
        tags,
        summary: 'Get the progress of a backup',
        params: Params,
        response: { 200: Backup, default: Problem },
      },
    },
    (request) => findBackup(store, request.params.id),
  );
}

function serveDownloadBackup(routes: Routes, { store }: BackupsContext): void {
  routes.get(
    '/v1/backups/:id/content',
    {
      config: { admin: true, described: { responseTypes: ['application/vnd.sqlite3'] } },
      schema: {
        operationId: 'downloadBackup',
        tags,
        summary: 'Download a backup that is ready',
        description: 'One SQLite file, as `application/vnd.sqlite3`.',
        params: Params,
        response: { 200: z.unknown().describe('The file.'), default: Problem },
      },
    },
    async (request, reply) => {
      const { id, state, sizeBytes, seq } = findBackup(store, request.params.id);
      if (state !== 'ready') throw problemError('backup-not-ready', `The backup is ${state}. Try again in a moment.`);
      return reply
        .type('application/vnd.sqlite3')
        .header('content-length', sizeBytes)
        .header('content-disposition', `attachment; filename="uproar-${seq}.sqlite"`)
        .send(store.backups.open(id)) as never;
    },
  );
}

function serveRemoveBackup(routes: Routes, { store }: BackupsContext): void {
  routes.delete(
    '/v1/backups/:id',
    {
      config: { admin: true },
      schema: {
        operationId: 'deleteBackup',
        tags,
        summary: 'Remove or abort a backup',
        params: Params,
        response: { 204: z.null().describe('It is gone.'), default: Problem },
      },
    },
    async (request, reply) => {
      findBackup(store, request.params.id);
      store.backups.remove(request.params.id);
      return reply.code(204).send(null);
    },
  );
}

/** @throws {ProblemError} `no-such-backup` */
function findBackup(store: BackupsContext['store'], id: string): BackupInfo {
  const info = store.backups.get(id);
  if (info) return info;
  throw problemError(
    'no-such-backup',
    'The backup was downloaded, removed or never created. POST /v1/backups creates one.',
  );
}
