import type { JsonObject, Store } from '@uproar/client';
import type { CollectionSchema, SchemaMode, SchemaReport } from '@uproar/protocol';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { parseAddress } from '../arguments/address.js';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { formatAge, printJson, printTable } from '../output/output.js';
import { parseObject, readFile } from '../arguments/read-data.js';
import { readFileSync } from 'node:fs';

type Options = StoreOptions & { json?: boolean };

/** `uproar schema`: the structure that documents of a collection are to have. */
export function addSchema(program: Command): void {
  const schema = program
    .command('schema')
    .summary('propose, check and set the schema of a collection')
    .description(
      'A schema (JSON Schema, 2020-12) describes the data of a collection. It can be proposed from the documents, checked against them, and then warn about ' +
        'violations or refuse them.',
    )
    .addHelpText(
      'after',
      '\nExample:\n  uproar schema propose balloons > balloons.schema.json\n  uproar schema check balloons --file balloons.schema.json\n  uproar schema set balloons balloons.schema.json --mode warn',
    );
  withStoreOptions(schema.command('list', { isDefault: true }))
    .description('Lists all schemas.')
    .option('--json', 'print JSON')
    .addHelpText('after', '\nExample:\n  uproar schema list')
    .action((options: Options) => useStore(options, (store) => list(store, options)));
  withStoreOptions(schema.command('show'))
    .description('Prints the schema of a collection.')
    .argument('<collection>', 'balloons')
    .argument('[version]', 'an earlier version')
    .option('--json', 'print it with its version and mode')
    .addHelpText('after', '\nExample:\n  uproar schema show balloons')
    .action((address: string, version: string | undefined, options: Options) =>
      useStore(options, async (store) => {
        const query = version === undefined ? '' : `?version=${encodeURIComponent(version)}`;
        const found = await store.fetch<CollectionSchema>(`/v1/schemas/${nameOf(address)}${query}`);
        if (options.json) return printJson(found);
        process.stderr.write(
          pc.dim(`# version ${found.version}, ${found.mode}, set ${formatAge(found.time)} by ${found.identity}\n`),
        );
        print(found.schema as JsonObject);
      }),
    );
  withStoreOptions(schema.command('propose'))
    .description('Prints a schema that the documents of a collection satisfy, for you to edit.')
    .argument('<collection>', 'balloons')
    .addHelpText('after', '\nExample:\n  uproar schema propose balloons > balloons.schema.json')
    .action((address: string, options: Options) =>
      useStore(options, async (store) =>
        print(await store.fetch<JsonObject>(`/v1/schemas/${nameOf(address)}/proposal`)),
      ),
    );
  withStoreOptions(schema.command('check'))
    .description('Lists the stored documents that violate the schema. Exits with code 7 if there are any.')
    .argument('<collection>', 'balloons')
    .option('--file <file>', 'a schema to check against, instead of the present one; - for standard input')
    .option('--json', 'print the report as JSON')
    .addHelpText('after', '\nExample:\n  uproar schema check balloons --file balloons.schema.json')
    .action((address: string, options: Options & { file?: string }) =>
      useStore(options, (store) => check(store, nameOf(address), options)),
    );
  withStoreOptions(schema.command('set'))
    .description('Sets the schema of a collection. Without a file, only the mode changes.')
    .argument('<collection>', 'balloons')
    .argument('[file]', 'a JSON Schema; - for standard input')
    .addOption(
      new Option('--mode <mode>', 'off: draft; warn: report violations; enforce: refuse violations')
        .choices(['off', 'warn', 'enforce'])
        .default('warn'),
    )
    .option('--anyway', 'enforce the schema although stored documents violate it')
    .option('--note <text>', 'what it is for')
    .option('--json', 'print the result as JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar schema set balloons balloons.schema.json --mode warn\n  uproar schema set balloons --mode enforce',
    )
    .action(
      (
        address: string,
        file: string | undefined,
        options: Options & { mode: SchemaMode; anyway?: boolean; note?: string },
      ) =>
        useStore(options, async (store) => {
          const { mode, anyway, note } = options;
          const body = { mode, anyway, note, ...(file === undefined ? {} : { schema: readSchema(file) }) };
          const answer = await store.request('PUT', `/v1/schemas/${nameOf(address)}`, body);
          const set = (await answer.json()) as CollectionSchema;
          if (options.json) printJson(set);
          else
            process.stdout.write(
              `${pc.green('set')} version ${set.version} for ${set.collection}: ${describeMode(set.mode)}\n`,
            );
        }),
    );
  withStoreOptions(schema.command('remove'))
    .description('Removes the schema of a collection with all versions. The documents stay unchanged.')
    .argument('<collection>', 'balloons')
    .addHelpText('after', '\nExample:\n  uproar schema remove balloons')
    .action((address: string, options: Options) =>
      useStore(options, async (store) => {
        await store.request('DELETE', `/v1/schemas/${nameOf(address)}`);
        process.stdout.write(`${pc.green('removed')} the schema of ${nameOf(address)}\n`);
      }),
    );
}

function nameOf(address: string): string {
  const { collection, id } = parseAddress(address);
  if (id !== undefined) throw new CommandError('schema needs a collection, not a document.', EXIT.usage);
  return collection;
}

function readSchema(file: string): JsonObject {
  return parseObject(file === '-' ? readFileSync(0, 'utf8') : readFile(file), 'A schema');
}

function print(schema: JsonObject): void {
  process.stdout.write(JSON.stringify(schema, null, 2) + '\n');
}

function describeMode(mode: SchemaMode): string {
  return {
    off: 'a draft; writes are not checked',
    warn: 'violations produce warnings',
    enforce: 'violations are refused',
  }[mode];
}

async function list(store: Store, options: Options): Promise<void> {
  const { schemas } = await store.fetch<{ schemas: CollectionSchema[] }>('/v1/schemas');
  if (options.json) return schemas.forEach(printJson);
  if (schemas.length === 0) {
    process.stderr.write(pc.dim('no schemas; to get a proposal: uproar schema propose COLLECTION\n'));
    return;
  }
  printTable(
    ['collection', 'mode', 'version', 'set', 'by', 'note'],
    schemas.map(({ collection, mode, version, time, identity, note = '' }) => [
      collection,
      mode,
      String(version),
      formatAge(time),
      identity,
      note,
    ]),
  );
}

async function check(store: Store, collection: string, options: Options & { file?: string }): Promise<void> {
  const body = options.file === undefined ? {} : { schema: readSchema(options.file) };
  const report = await store.post<SchemaReport>(`/v1/schemas/${collection}/check`, body);
  if (report.violations > 0) process.exitCode = EXIT.unsound;
  if (options.json) return printJson(report);
  const rows = report.examples.flatMap(({ id, violations }) =>
    violations.map(({ pointer, detail }, place) => [place === 0 ? id : '', pointer || 'the whole', detail]),
  );
  if (rows.length > 0) printTable(['document', 'at', 'violation'], rows);
  const all = `${report.documents.toLocaleString('en')} documents`;
  if (report.violations === 0) process.stdout.write(`${pc.green('all fit')}: ${all} of ${collection}\n`);
  else
    process.stdout.write(
      `${pc.yellow(`${report.violations.toLocaleString('en')} of ${all}`)} of ${collection} do not fit` +
        `${report.violations > report.examples.length ? `; the first ${report.examples.length} are shown` : ''}. Correct them, for example with uproar rewrite.\n`,
    );
}
