import { Problem, ProblemError, SetupAnswer, SetupForm, StoreSetup } from '@uproar/protocol';
import type { FastifyInstance } from 'fastify';
import { checkBeforeEnforcing } from '../../reading/check-documents.js';
import { findPolicyWarnings } from '../../requests/check-policy.js';
import type { Context } from '../../requests/context.js';
import { planSetup, readSetup, type PlanParts } from '../../setup/plan-setup.js';
import { parsePolicy } from '../../state/parse-policy.js';
import { auditAdministration } from '../access/audit.js';
import { withSchemas } from '../with-schemas.js';

/** The parts of the service that these routes use. */
type SetupContext = Pick<Context, 'store' | 'schemas' | 'hooks' | 'identities' | 'connections'>;

const tags = ['administration'];
const config = { admin: true };

/** The set-up of a store as a whole: policy, schemas, indexes and hooks. */
export function serveSetup(app: FastifyInstance, context: SetupContext): void {
  const routes = withSchemas(app);
  const { store, identities } = context;
  routes.get(
    '/v1/setup',
    {
      config,
      schema: {
        operationId: 'getSetup',
        tags,
        summary: 'Get the set-up of the store: policy, schemas, indexes, and hooks without secrets',
        response: { 200: StoreSetup, default: Problem },
      },
    },
    () => readSetup(partsOf(context)),
  );
  routes.post(
    '/v1/setup',
    {
      config,
      schema: {
        operationId: 'applySetup',
        tags,
        summary: 'Give the store a set-up, as a whole or not at all',
        description:
          'Returns what was done for it. With `dryRun`, only says so, with a problem for each step that cannot be done. ' +
          'Returns when new indexes are filled.',
        body: SetupForm,
        response: { 200: SetupAnswer, default: Problem },
      },
    },
    async (request, reply) => {
      const { setup, dryRun } = request.body;
      const planned = await planSetup(request.body, request.identity.author, partsOf(context));
      const steps = planned.map(({ step }) => step);
      const faulty = steps.find(({ problem }) => problem);
      const warnings =
        setup.policy !== undefined && steps.some(({ part, problem }) => part === 'policy' && !problem)
          ? await findPolicyWarnings(parsePolicy(setup.policy), store)
          : [];
      if (dryRun) return { applied: false, steps, warnings, secrets: {} };
      if (faulty)
        throw new ProblemError({
          ...faulty.problem!,
          detail: `${faulty.part} ${faulty.name}: ${faulty.problem!.detail}`,
        });
      const records = planned.flatMap(({ record }) => (record ? [record] : []));
      if (records.length > 0) {
        await store.log.propose({ kind: 'setup', timeMs: Date.now(), steps: records });
        await store.indexes.filled();
        const done = steps
          .filter(({ action }) => action !== 'leave')
          .map(({ part, name, action }) => `${action} ${part} ${name}`);
        auditAdministration(context, request, 'setup-applied', { steps: done });
      }
      const secrets = Object.fromEntries(
        planned.flatMap(({ step, secret }) => (secret === undefined ? [] : [[step.name, secret]])),
      );
      void reply.header('cache-control', 'no-store');
      return { applied: true, steps, warnings, secrets };
    },
  );

  function partsOf({ schemas, hooks, connections }: SetupContext): PlanParts {
    return {
      store,
      schemas,
      hooks,
      policy: identities.policies.get()!,
      checkBeforeEnforcing: (collection, validate) => checkBeforeEnforcing(store, collection, validate),
      aboutPolicy: (text) => {
        const losing = connections.countLosing(parsePolicy(text));
        return losing === 0 ? '' : `${losing} open ${losing === 1 ? 'watch ends' : 'watches end'}`;
      },
    };
  }
}
