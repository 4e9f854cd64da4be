import {
  Delivery,
  DeliveryDetails,
  DeliveryResult,
  HookChange,
  HookForm,
  HookInfo,
  NewHook,
  Problem,
  problemError,
  ProblemError,
  Seq,
} from '@uproar/protocol';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';
import type { Hook } from '../../hooks/hooks.js';
import type { Context } from '../../requests/context.js';
import { auditAdministration } from '../access/audit.js';
import { withSchemas, type Routes } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type HooksContext = Pick<Context, 'hooks' | 'hookRunner' | 'identities' | 'cluster'>;

const tags = ['administration'];
const config = { admin: true };

const Params = z.object({ hook: z.string().max(100).describe('The id or the name of a hook.') });
const DeliveryParams = Params.extend({ number: z.coerce.number().int().positive() });

/** How long another node may take to answer, in milliseconds; a delivery may take a minute. */
const PEER_MS = 65_000;

/** Says that another node has forwarded the request, and which. */
const FORWARDED = 'uproar-forwarded-by';

/** Hooks: changes delivered to other servers. */
export function serveHooks(app: FastifyInstance, context: HooksContext): void {
  const routes = withSchemas(app);
  serveDefinitions(routes, context);
  serveStates(routes, context);
  serveDeliveries(routes, context);
}

function serveDefinitions(routes: Routes, context: HooksContext): void {
  const { hooks } = context;
  routes.get(
    '/v1/hooks',
    {
      config,
      schema: {
        operationId: 'listHooks',
        tags,
        summary: 'List the hooks',
        response: { 200: z.object({ hooks: z.array(HookInfo) }), default: Problem },
      },
    },
    () => ({ hooks: hooks.list().map((hook) => describe(context, hook)) }),
  );
  routes.post(
    '/v1/hooks',
    {
      config,
      schema: {
        operationId: 'createHook',
        tags,
        summary: 'Create a hook',
        description:
          'Posts each change of a collection to an address, as CloudEvents 1.0 with a signature by Standard Webhooks. ' +
          'Only this response contains the secret.',
        body: HookForm,
        response: { 201: NewHook, default: Problem },
      },
    },
    async (request, reply) => {
      const { hook, secret } = await hooks.create(request.body);
      audit(context, request, 'hook-created', hook, { url: hook.definition.url });
      return reply
        .code(201)
        .header('cache-control', 'no-store')
        .send({ ...hooks.describe(hook), secret });
    },
  );
  routes.get(
    '/v1/hooks/:hook',
    {
      config,
      schema: {
        operationId: 'getHook',
        tags,
        summary: 'Get a hook',
        params: Params,
        response: { 200: HookInfo, default: Problem },
      },
    },
    (request) => describe(context, hooks.get(request.params.hook)),
  );
  routes.patch(
    '/v1/hooks/:hook',
    {
      config,
      schema: {
        operationId: 'updateHook',
        tags,
        summary: 'Change a hook',
        description: 'Members that are left out stay as they are; null removes a condition, fields or claims.',
        params: Params,
        body: HookChange,
        response: { 200: HookInfo, default: Problem },
      },
    },
    async (request) => {
      const hook = await hooks.change(request.params.hook, request.body);
      audit(context, request, 'hook-changed', hook, { changed: Object.keys(request.body) });
      return describe(context, hook);
    },
  );
  routes.delete(
    '/v1/hooks/:hook',
    {
      config,
      schema: {
        operationId: 'deleteHook',
        tags,
        summary: 'Remove a hook',
        params: Params,
        response: { 204: z.null().describe('It is removed.'), default: Problem },
      },
    },
    async (request, reply) => {
      const hook = hooks.get(request.params.hook);
      await hooks.remove(hook.id);
      audit(context, request, 'hook-removed', hook);
      return (reply as FastifyReply).code(204).send();
    },
  );
}

function serveStates(routes: Routes, context: HooksContext): void {
  const { hooks } = context;
  routes.post(
    '/v1/hooks/:hook/pause',
    {
      config,
      schema: {
        operationId: 'pauseHook',
        tags,
        summary: 'Pause a hook',
        params: Params,
        body: z.strictObject({ reason: z.string().min(1).max(500).default('An administrator paused it.') }),
        response: { 200: HookInfo, default: Problem },
      },
    },
    async (request) => {
      const hook = await hooks.pause(request.params.hook, request.body.reason);
      audit(context, request, 'hook-paused', hook);
      return describe(context, hook);
    },
  );
  routes.post(
    '/v1/hooks/:hook/resume',
    {
      config,
      schema: {
        operationId: 'resumeHook',
        tags,
        summary: 'Let a hook go on',
        description: 'Where it was, or after another seq: an earlier one delivers again, a later one leaves out.',
        params: Params,
        body: z.strictObject({ after: Seq.optional() }),
        response: { 200: HookInfo, default: Problem },
      },
    },
    async (request) => {
      const { after } = request.body;
      const hook = await hooks.resume(request.params.hook, after);
      audit(context, request, 'hook-resumed', hook, after === undefined ? {} : { after });
      return describe(context, hook);
    },
  );
  routes.post(
    '/v1/hooks/:hook/rotate',
    {
      config,
      schema: {
        operationId: 'rotateHookSecret',
        tags,
        summary: 'Replace the secret of a hook',
        params: Params,
        body: z.strictObject({
          keepOldSeconds: z
            .int()
            .nonnegative()
            .max(30 * 86_400)
            .default(86_400)
            .describe('How long deliveries are signed with the old secret, too.'),
        }),
        response: { 200: NewHook, default: Problem },
      },
    },
    async (request, reply) => {
      const { hook, secret } = await hooks.rotate(request.params.hook, request.body.keepOldSeconds * 1000);
      audit(context, request, 'hook-rotated', hook);
      return reply.header('cache-control', 'no-store').send({ ...describe(context, hook), secret });
    },
  );
  routes.post(
    '/v1/hooks/:hook/test',
    {
      config,
      schema: {
        operationId: 'testHook',
        tags,
        summary: 'Send a test event now',
        description: 'Its type is `uproar.hook.test`. The answer of the receiver is returned, also when it refuses.',
        params: Params,
        response: { 200: DeliveryResult, default: Problem },
      },
    },
    async (request) => context.hookRunner.test(hooks.get(request.params.hook)),
  );
}

function serveDeliveries(routes: Routes, context: HooksContext): void {
  const { hooks, hookRunner } = context;
  routes.get(
    '/v1/hooks/:hook/deliveries',
    {
      config,
      schema: {
        operationId: 'listDeliveries',
        tags,
        summary: 'List the latest deliveries of a hook, newest first',
        description: 'The newest 500 that were taken and the newest 500 that failed, on the node that delivers.',
        params: Params,
        querystring: z.strictObject({
          before: z.coerce
            .number()
            .int()
            .positive()
            .default(Number.MAX_SAFE_INTEGER)
            .describe('Deliveries before this number.'),
          failed: z.enum(['true', 'false']).default('false').describe('Only failed ones.'),
          limit: z.coerce.number().int().min(1).max(500).default(50),
        }),
        response: { 200: z.object({ deliveries: z.array(Delivery) }), default: Problem },
      },
    },
    async (request) => {
      const { before, failed, limit } = request.query;
      const { id } = hooks.get(request.params.hook);
      return (
        (await askOther<{ deliveries: Delivery[] }>(context, request)) ?? {
          deliveries: await hookRunner.log.list(id, before, limit, failed === 'true'),
        }
      );
    },
  );
  routes.get(
    '/v1/hooks/:hook/deliveries/:number',
    {
      config,
      schema: {
        operationId: 'getDelivery',
        tags,
        summary: 'Get a delivery, with what was sent',
        params: DeliveryParams,
        response: { 200: DeliveryDetails, default: Problem },
      },
    },
    async (request) => {
      const { hook, number } = request.params;
      return (await askOther<DeliveryDetails>(context, request)) ?? (await hookRunner.details(hooks.get(hook), number));
    },
  );
  routes.post(
    '/v1/hooks/:hook/deliveries/:number/send',
    {
      config,
      schema: {
        operationId: 'resendDelivery',
        tags,
        summary: 'Send a delivery again, now',
        description: 'With the same event id, and out of order.',
        params: DeliveryParams,
        response: { 200: DeliveryResult, default: Problem },
      },
    },
    async (request) => {
      const { hook, number } = request.params;
      return (
        (await askOther<DeliveryResult>(context, request)) ?? (await hookRunner.sendAgain(hooks.get(hook), number))
      );
    },
  );
}

/** The answer of the node that delivers, if that is another one. */
async function askOther<Answer>(
  { cluster }: HooksContext,
  { method, url, headers: given }: FastifyRequest,
): Promise<Answer | undefined> {
  const node = cluster?.holderOf('hooks');
  // While the work changes hands, each of two nodes can take the other for the one that delivers.
  if (node === undefined || node === cluster!.node || given[FORWARDED] !== undefined) return undefined;
  const address = cluster!.addressOf(node);
  if (address === undefined) return undefined;
  try {
    const headers = { authorization: `Bearer ${cluster!.secret}`, [FORWARDED]: cluster!.node };
    const response = await fetch(new URL(url, address), { method, headers, signal: AbortSignal.timeout(PEER_MS) });
    const answer: unknown = await response.json();
    if (!response.ok) throw new ProblemError(answer as Problem);
    return answer as Answer;
  } catch (error) {
    if (error instanceof ProblemError) throw error;
    throw problemError('behind', `The node at ${address}, which delivers, does not answer. Try again in some seconds.`);
  }
}

function describe({ hooks, hookRunner }: HooksContext, hook: Hook): HookInfo {
  return hooks.describe(hookRunner.current(hook));
}

function audit(context: HooksContext, request: FastifyRequest, event: string, { name }: Hook, more = {}): void {
  auditAdministration(context, request, event, { hook: name, ...more });
}
