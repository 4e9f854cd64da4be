import type { Command } from 'commander';
import pc from 'picocolors';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { printJson, printTable } from '../output/output.js';
import { profilesFile, readProfiles, writeProfiles, type Profiles } from '../connect/profiles.js';

/** `uproar profile`: stores known by a name, so that neither address nor key is to be typed. */
export function addProfile(program: Command): void {
  const profile = program
    .command('profile')
    .summary('manage profiles: named stores with their keys')
    .description(
      `Stores the addresses and keys of stores under names, for --profile and UPROAR_PROFILE, in ${profilesFile()}, which only you can read.`,
    )
    .addHelpText(
      'after',
      '\nExamples:\n  uproar profile add tower --url https://tower.example --key …\n  uproar status --profile tower',
    );
  profile
    .command('list', { isDefault: true })
    .description('Lists the profiles. Keys are not shown.')
    .option('--json', 'print one JSON object per line')
    .addHelpText('after', '\nExample:\n  uproar profile list')
    .action((options: { json?: boolean }) => list(readProfiles(), options.json ?? false));
  profile
    .command('add')
    .description('Adds a profile. The first one becomes the default.')
    .argument('<name>', 'tower')
    .requiredOption('--url <url>', 'address of the store')
    .option('--key <key>', 'key or token; without one, UPROAR_KEY is used')
    .option('--default', 'make it the default profile')
    .addHelpText('after', '\nExample:\n  uproar profile add tower --url http://127.0.0.1:4680 --key "$UPROAR_KEY"')
    .action((name: string, { url, key, default: makeDefault }: { url: string; key?: string; default?: boolean }) => {
      if (!/^[\w.-]{1,64}$/.test(name)) {
        throw new CommandError(
          `"${name}" is not a valid profile name.`,
          EXIT.usage,
          'Use letters, digits, "-", "_" and ".".',
        );
      }
      if (!URL.canParse(url) || !/^https?:/.test(url)) {
        throw new CommandError(
          `"${url}" is not the address of a store.`,
          EXIT.usage,
          'An address looks like http://127.0.0.1:4680.',
        );
      }
      const profiles = readProfiles();
      profiles.profiles[name] = { url: url.replace(/\/+$/, ''), ...(key === undefined ? {} : { key }) };
      if (makeDefault || profiles.default === undefined) profiles.default = name;
      writeProfiles(profiles);
      process.stdout.write(`${pc.green('kept')} ${name}${profiles.default === name ? ', the default' : ''}\n`);
    });
  profile
    .command('use')
    .description('Sets the default profile.')
    .argument('<name>', 'tower')
    .addHelpText('after', '\nExample:\n  uproar profile use tower')
    .action((name: string) => {
      const profiles = known(name);
      writeProfiles({ ...profiles, default: name });
      process.stdout.write(`${pc.green('default')} ${name}\n`);
    });
  profile
    .command('remove')
    .description('Forgets a profile.')
    .argument('<name>', 'tower')
    .addHelpText('after', '\nExample:\n  uproar profile remove tower')
    .action((name: string) => {
      const { default: before, profiles } = known(name);
      delete profiles[name];
      writeProfiles({ ...(before === undefined || before === name ? {} : { default: before }), profiles });
      process.stdout.write(`${pc.green('removed')} ${name}\n`);
    });
}

function known(name: string): Profiles {
  const profiles = readProfiles();
  if (Object.hasOwn(profiles.profiles, name)) return profiles;
  throw new CommandError(`The profile "${name}" does not exist.`, EXIT.notFound, '"uproar profile list" lists them.');
}

function list({ default: byDefault, profiles }: Profiles, json: boolean): void {
  const entries = Object.entries(profiles).map(([name, { url, key }]) => ({
    name,
    url,
    hasKey: key !== undefined,
    default: name === byDefault,
  }));
  if (json) entries.forEach(printJson);
  else if (entries.length === 0) {
    process.stdout.write('There are no profiles. Add one with: uproar profile add tower --url http://127.0.0.1:4680\n');
  } else {
    printTable(
      ['', 'name', 'address', 'key'],
      entries.map((entry) => [
        entry.default ? pc.green('*') : '',
        entry.name,
        entry.url,
        entry.hasKey ? 'kept' : pc.dim('none'),
      ]),
    );
  }
}
