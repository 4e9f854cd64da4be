import { writeFileSync } from 'node:fs';
import { isProblem, type JsonObject, type Store } from '@uproar/client';
import type { CollectionListing, CollectionSchema } from '@uproar/protocol';
import type { Command } from 'commander';
import pc from 'picocolors';
import { formatZod } from '../output/format-zod.js';
import { useStore, withStoreOptions, type StoreOptions } from '../connect/open-store.js';

interface Options extends StoreOptions {
  out?: string;
}

/** `uproar types`: TypeScript types and Zod schemas for the client. */
export function addTypes(program: Command): void {
  withStoreOptions(program.command('types'))
    .summary('write TypeScript types and Zod schemas for collections')
    .description(
      'Writes a module with a Zod schema and a type for each collection, from its schema or, without one, from its documents.',
    )
    .argument('[collection...]', 'the collections; default: all')
    .option('--out <file>', 'the file to write; default: standard output')
    .addHelpText('after', '\nExamples:\n  uproar types --out src/festival.ts\n  uproar types balloons crews')
    .action((names: string[], options: Options) =>
      useStore(options, async (store) => {
        const wanted = names.length > 0 ? names : await allCollections(store);
        const parts = await Promise.all(wanted.map((name) => describeCollection(store, name)));
        const text = `import { z } from 'zod';\n${parts.join('')}`;
        if (options.out === undefined) {
          process.stdout.write(text);
          return;
        }
        writeFileSync(options.out, text);
        process.stdout.write(`${pc.green('written')} ${options.out}  ${pc.dim(`${wanted.length} collections`)}\n`);
      }),
    );
}

async function allCollections(store: Store): Promise<string[]> {
  return (await store.fetch<CollectionListing>('/v1/collections')).documents.map(({ id }) => id);
}

async function describeCollection(store: Store, collection: string): Promise<string> {
  const { schema, origin } = await schemaOf(store, collection);
  const { jsonSchemaToZod } = await import('json-schema-to-zod');
  const name = typeName(collection);
  const zod = jsonSchemaToZod(withoutDialect(schema), { module: 'none', zodVersion: 4 });
  return (
    `\n/** A document of \`${collection}\`: ${origin}. */\n` +
    `export const ${name}Schema = ${formatZod(zod)};\nexport type ${name} = z.infer<typeof ${name}Schema>;\n`
  );
}

async function schemaOf(store: Store, collection: string): Promise<{ schema: JsonObject; origin: string }> {
  try {
    const { schema, version } = await store.fetch<CollectionSchema>(`/v1/schemas/${collection}`);
    return { schema: schema as JsonObject, origin: `version ${version} of its schema` };
  } catch (error) {
    if (!isProblem(error, 'no-such-schema')) throw error;
    const schema = await store.fetch<JsonObject>(`/v1/schemas/${collection}/proposal`);
    return { schema, origin: 'from its documents at the time of generation' };
  }
}

function withoutDialect({ $schema: _, ...schema }: JsonObject): JsonObject {
  return schema;
}

/** `launch-pads` as the name of a type: `LaunchPads`. */
function typeName(collection: string): string {
  return collection
    .split('-')
    .map((part) => part.charAt(0).toUpperCase() + part.slice(1))
    .join('');
}
