import { dirname, resolve } from 'node:path';
import {
  enableFullQueries,
  mergePatch,
  PolicyError,
  readPolicy,
  RULES,
  tryPolicy,
  type Decision,
  type Document,
  type JsonObject,
  type JsonValue,
  type Policy,
} from '@uproar/core';
import type { PolicyVersion } from '@uproar/protocol';
import pc from 'picocolors';
import { parse, YAMLParseError } from 'yaml';
import { z } from 'zod';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';
import { readFile } from '../arguments/read-data.js';

const Claims = z.record(z.string(), z.unknown());
const Data = z.record(z.string(), z.unknown());

/** One case: who does what to which document, and what comes of it. */
const Case = z.strictObject({
  name: z.string().optional(),
  as: z
    .union([z.string(), Claims])
    .describe('A name from `people`, or claims. Left out: an anonymous caller.')
    .optional(),
  do: z.enum(RULES, { error: `"do" is one of ${RULES.join(', ')}.` }),
  collection: z.string(),
  id: z.string().optional(),
  before: Data.optional(),
  data: Data.optional(),
  merge: Data.optional(),
  allowed: z.boolean({ error: '"allowed" is true or false.' }),
  sees: Data.optional().describe('For read: the visible data, without concealed fields.'),
});
type Case = z.infer<typeof Case>;

/** A file of cases. */
const Cases = z.strictObject({
  policy: z.string().optional().describe('The policy file, relative to this file.'),
  people: z.record(z.string(), Claims).optional(),
  cases: z.array(Case).min(1, { error: 'There are no cases.' }),
});

/** How the cases are run. */
export interface CaseOptions extends Partial<StoreOptions> {
  policy?: string;
  json?: boolean;
}

/** Runs files of cases and prints how each came out. The exit code is 1 when one did not come out as it should. */
export async function runCases(files: readonly string[], options: CaseOptions): Promise<void> {
  // Conditions are evaluated here and not by a service.
  enableFullQueries();
  let [passed, failed] = [0, 0];
  for (const file of files) {
    const { policy: policyFile, people, cases } = readCases(file);
    const path = options.policy ?? (policyFile === undefined ? undefined : resolve(dirname(file), policyFile));
    const policy = path === undefined ? await policyOfStore(options, file) : readPolicyText(readFile(path), path);
    for (const [index, one] of cases.entries()) {
      const decision = decide(policy, one, people ?? {}, `${file}, case ${index + 1}`);
      const wrong = findDifference(one, decision);
      if (wrong === undefined) passed++;
      else failed++;
      report(one, decision, wrong, options.json ?? false);
    }
  }
  if (!options.json) {
    process.stdout.write(`\n${passed} passed, ${failed === 0 ? '0' : pc.red(String(failed))} failed\n`);
  }
  process.exitCode = failed === 0 ? EXIT.done : EXIT.failed;
}

function readCases(file: string): z.infer<typeof Cases> {
  const checked = Cases.safeParse(parseYaml(readFile(file), file));
  if (checked.success) return checked.data;
  const { path, message } = checked.error.issues[0]!;
  throw new CommandError(
    `${file}: /${path.join('/')}: ${message}`,
    EXIT.usage,
    'See docs/access.md for the form of the cases.',
  );
}

async function policyOfStore({ url, key }: CaseOptions, file: string): Promise<Policy> {
  if (url === undefined) {
    throw new CommandError(
      `${file} names no policy.`,
      EXIT.usage,
      'Name one in it ("policy: policy.yaml"), or give one with --policy, or a store with --url.',
    );
  }
  return useStore({ url, ...(key === undefined ? {} : { key }) }, async (store) => {
    const { text } = await store.fetch<PolicyVersion>('/v1/policy');
    return readPolicyText(text, 'the policy of the store');
  });
}

function readPolicyText(text: string, where: string): Policy {
  try {
    return readPolicy((parseYaml(text, where) ?? {}) as JsonValue);
  } catch (error) {
    if (!(error instanceof PolicyError)) throw error;
    throw new CommandError(`${where}: ${error.pointer || '/'}: ${error.message}`, EXIT.usage);
  }
}

function parseYaml(text: string, where: string): unknown {
  try {
    return parse(text, { maxAliasCount: 0 });
  } catch (error) {
    if (error instanceof YAMLParseError) throw new CommandError(`${where}: ${error.message}`, EXIT.usage);
    throw new CommandError(`${where} cannot be read: ${(error as Error).message}`, EXIT.usage);
  }
}

function decide(policy: Policy, one: Case, people: Record<string, unknown>, where: string): Decision {
  if (typeof one.as === 'string' && !Object.hasOwn(people, one.as)) {
    throw new CommandError(`${where}: "people" has no "${one.as}".`, EXIT.usage);
  }
  const claims = (typeof one.as === 'string' ? people[one.as] : (one.as ?? {})) as JsonObject;
  if (one.do !== 'create' && !one.before) {
    throw new CommandError(`${where}: for ${one.do}, give the document in "before".`, EXIT.usage);
  }
  const before = one.do === 'create' ? undefined : invent(one.before as JsonObject, one.id);
  const written = (one.data ??
    (one.merge && mergePatch(before?.data ?? {}, one.merge as JsonObject)) ??
    before?.data ??
    {}) as JsonObject;
  const after = one.do === 'read' || one.do === 'delete' ? undefined : invent(written, one.id);
  const decision = tryPolicy(policy, { collection: one.collection, rule: one.do, claims, before, after });
  // Anonymous callers are allowed only if the policy says so.
  return one.as === undefined && !policy.anonymous ? { ...decision, allowed: false } : decision;
}

function invent(data: JsonObject, id = 'new'): Document {
  const now = new Date().toISOString();
  return { id, version: 1, created: now, updated: now, data };
}

function findDifference({ allowed, sees }: Case, decision: Decision): string | undefined {
  if (decision.allowed !== allowed) return `it is ${decision.allowed ? 'allowed' : 'refused'}`;
  const [seen, wanted] = [JSON.stringify(decision.document?.data), JSON.stringify(sees)];
  return sees !== undefined && seen !== wanted ? `it is visible as ${seen ?? 'nothing'}` : undefined;
}

function report(one: Case, decision: Decision, wrong: string | undefined, json: boolean): void {
  const who = typeof one.as === 'string' ? one.as : one.as === undefined ? 'anonymous' : JSON.stringify(one.as);
  const name = one.name ?? `${who} ${one.allowed ? 'may' : 'may not'} ${one.do} ${one.collection}`;
  if (json) return printJson({ name, passed: wrong === undefined, decision });
  process.stdout.write(`${wrong === undefined ? pc.green('✓') : pc.red('✗')} ${name}\n`);
  if (wrong === undefined) return;
  process.stdout.write(
    `    but ${wrong}: ${decision.pointer ?? `no rule "${decision.rule}"`} ${pc.dim(decision.condition ?? '')}\n`,
  );
  for (const { condition, truth } of decision.parts) {
    process.stdout.write(`      ${truth === true ? 'yes' : truth === false ? 'no' : 'unknown'}  ${condition}\n`);
  }
}
