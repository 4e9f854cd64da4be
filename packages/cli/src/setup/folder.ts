import { existsSync, mkdirSync, readdirSync, rmSync, writeFileSync } from 'node:fs';
import { basename, join } from 'node:path';
import type { JsonObject } from '@uproar/core';
import { StoreSetup } from '@uproar/protocol';
import { parse, stringify, YAMLParseError } from 'yaml';
import { z } from 'zod';
import { parseObject, readFile } from '../arguments/read-data.js';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** The files of a set-up. */
const MAIN = 'setup.yaml';
const POLICY = 'policy.yaml';
export const CASES = 'policy-cases.yaml';
const SCHEMAS = 'schemas';

const HEADING = `# The set-up of a store. Beside it: ${POLICY}, ${CASES} (optional), and ${SCHEMAS}/ with a JSON Schema for each collection.
# uproar setup compare | apply | check
`;

/** What the main file has. The schemas are in files of their own; here are their modes. */
const MainFile = z.strictObject({
  schemas: z.record(z.string(), z.enum(['off', 'warn', 'enforce'])).default({}),
  indexes: z.record(z.string(), z.array(z.string())).default({}),
  hooks: z.record(z.string(), z.record(z.string(), z.unknown())).default({}),
});

/**
 * Reads a set-up from its folder. `\${NAME}` in the address of a hook is replaced by the variable of the environment.
 *
 * @throws {CommandError} that names the file and the place
 */
export function readSetupFolder(folder: string, environment: NodeJS.ProcessEnv = process.env): StoreSetup {
  if (!existsSync(join(folder, MAIN))) {
    const advice = 'uproar setup save writes the set-up of a store into a folder.';
    throw new CommandError(`There is no ${MAIN} in ${folder}.`, EXIT.usage, advice);
  }
  const main = readMain(join(folder, MAIN));
  const schemas = Object.fromEntries(
    schemaFiles(folder).map((file) => {
      const collection = basename(file, '.json');
      const mode = main.schemas[collection];
      if (mode === undefined)
        throw new CommandError(`${MAIN} has no mode for the schema of ${collection}.`, EXIT.usage);
      const schema = parseObject(readFile(join(folder, SCHEMAS, file)), `${SCHEMAS}/${file}`);
      return [collection, { mode, schema }];
    }),
  );
  for (const collection of Object.keys(main.schemas)) {
    if (!schemas[collection]) throw new CommandError(`${SCHEMAS}/${collection}.json is missing.`, EXIT.usage);
  }
  const hooks = Object.fromEntries(
    Object.entries(main.hooks).map(([name, hook]) => [name, { ...hook, url: fillIn(String(hook.url), environment) }]),
  );
  const policy = existsSync(join(folder, POLICY)) ? { policy: readFile(join(folder, POLICY)) } : {};
  const checked = StoreSetup.safeParse({ ...policy, schemas, indexes: main.indexes, hooks });
  if (checked.success) return checked.data;
  throw new CommandError(`${MAIN}: ${z.prettifyError(checked.error)}`, EXIT.usage);
}

/** Writes a set-up into a folder. Files of schemas that it does not have are removed. */
export function writeSetupFolder(folder: string, { policy, schemas, indexes, hooks }: StoreSetup): string[] {
  mkdirSync(join(folder, SCHEMAS), { recursive: true });
  const written: string[] = [];
  const write = (name: string, text: string) => {
    writeFileSync(join(folder, name), text);
    written.push(name);
  };
  const modes = Object.fromEntries(Object.entries(schemas).map(([name, { mode }]) => [name, mode]));
  write(MAIN, HEADING + stringify({ schemas: modes, indexes, hooks }));
  if (policy !== undefined) write(POLICY, policy);
  for (const [name, { schema }] of Object.entries(schemas)) {
    write(`${SCHEMAS}/${name}.json`, `${JSON.stringify(schema as JsonObject, null, 2)}\n`);
  }
  for (const file of schemaFiles(folder)) if (!schemas[basename(file, '.json')]) rmSync(join(folder, SCHEMAS, file));
  return written;
}

function schemaFiles(folder: string): string[] {
  const path = join(folder, SCHEMAS);
  return existsSync(path)
    ? readdirSync(path)
        .filter((file) => file.endsWith('.json'))
        .sort()
    : [];
}

function readMain(file: string): z.infer<typeof MainFile> {
  try {
    const checked = MainFile.safeParse(parse(readFile(file), { maxAliasCount: 0 }) ?? {});
    if (checked.success) return checked.data;
    throw new CommandError(`${file}: ${z.prettifyError(checked.error)}`, EXIT.usage);
  } catch (error) {
    if (error instanceof YAMLParseError) throw new CommandError(`${file}: ${error.message}`, EXIT.usage);
    throw error;
  }
}

function fillIn(text: string, environment: NodeJS.ProcessEnv): string {
  return text.replace(/\$\{(\w+)\}/g, (_, name: string) => {
    const value = environment[name];
    if (value === undefined)
      throw new CommandError(`The variable ${name} in the address of a hook is not set.`, EXIT.usage);
    return value;
  });
}
