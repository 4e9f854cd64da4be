import { formatDuration } from '@uproar/core';
import type { Service } from '@uproar/service';
import { Option, type Command } from 'commander';
import pc from 'picocolors';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { startService, stopped } from '../connect/run-service.js';
import { defaultOf, describeSetting, SETTING_NAMES, SETTINGS, type SettingName } from '../settings/declaration.js';
import { compareSettings, gatherSettings, type GatheredSettings } from '../settings/gather.js';
import { printSettings } from '../settings/print.js';
import { toServiceOptions } from '../settings/service-options.js';

const NOTES = `
Every setting is an option, a variable of the environment (--journal-age is UPROAR_JOURNAL_AGE), and
a line of the settings file (journal-age: 30d), in this order of precedence. Secrets are no options:
UPROAR_ADMIN_KEY sets the admin key; without it, the first start creates one and prints it once.
UPROAR_TOKEN_SECRET sets the secret of tokens (JWT, HS256).

SIGHUP makes the service read its settings again. Settings that need a restart are named in the log.

Examples:
  uproar serve
  UPROAR_ADMIN_KEY=a-key-of-your-own uproar serve --data /srv/uproar --port 8000
  uproar serve --settings /etc/uproar.yaml --print-settings
  uproar serve --open-for 2h
  uproar serve --token-keys https://id.example/keys.json --token-issuer https://id.example --token-audience festival`;

/** `uproar serve`: runs a store. */
export function addServe(program: Command): void {
  const command = program
    .command('serve')
    .summary('run a store')
    .description('Opens or creates the store in a data directory and serves it until it is stopped.')
    .option('--settings <file>', 'read settings from this file, YAML or JSON (or UPROAR_SETTINGS)')
    .option('--print-settings', 'print all settings with their sources, and exit');
  for (const name of SETTING_NAMES) if (!describeSetting(name).secret) command.addOption(optionFor(name));
  command.addHelpText('after', NOTES).action(serve);
}

function optionFor(name: SettingName): Option {
  const { about, argument, usual } = describeSetting(name);
  const byDefault = usual ?? (name === 'log-level' || argument ? defaultOf(name) : undefined);
  const option = new Option(
    argument === undefined ? `--${name}` : `--${name} <${argument}>`,
    byDefault === undefined ? about : `${about} (default: ${byDefault})`,
  );
  // SettingSource again, an option of a list adds to it.
  if (describeSetting(name).list) option.argParser((given, before?: string) => (before ? `${before},${given}` : given));
  const choices = choicesOf(name);
  return choices ? option.choices(choices) : option;
}

/** The words a setting takes, where it takes some words alone. */
function choicesOf(name: SettingName): string[] | undefined {
  if (name === 'log-level') return [...SETTINGS.shape['log-level'].unwrap().options];
  return name === 'accounts' ? [...SETTINGS.shape.accounts.unwrap().options] : undefined;
}

async function serve(_options: unknown, command: Command): Promise<void> {
  const options = command.opts<Record<string, string | boolean>>();
  const file = (options.settings as string | undefined) ?? process.env.UPROAR_SETTINGS;
  const given = Object.fromEntries(
    command.options
      .filter((option) => options[option.attributeName()] !== undefined)
      .map((option) => [option.name(), String(options[option.attributeName()])]),
  );
  const gather = () => gatherSettings(given, file);
  const gathered = gather();
  for (const warning of gathered.warnings) process.stderr.write(`${pc.yellow('warning')} ${warning}\n`);
  if (options.printSettings) {
    process.stdout.write(printSettings(gathered));
    return;
  }
  const { values } = gathered;
  const starting = startService({
    ...toServiceOptions(values),
    onOpenPeriod: tellOpening,
    onHalt: (error) => {
      process.stderr.write(`${pc.red('error')} This node has stopped. ${error.message}\n`);
      // It may also stop before it is up.
      void starting.then((service) => service.close()).finally(() => process.exit(EXIT.failed));
    },
  });
  const service = await starting;
  process.stdout.write(
    `${pc.bold('uproar')} serves ${pc.cyan(service.address)}  ${pc.dim(`data in ${values.data}`)}\n`,
  );
  process.stdout.write(
    `console ${pc.cyan(`${service.address}/console/${service.firstKey ? `#key=${service.firstKey}` : ''}`)}\n`,
  );
  if (service.firstKey) {
    process.stdout.write(`\nThe key of this new store, shown only now:\n\n  ${pc.bold(service.firstKey)}\n\n`);
  }
  reloadOnSignal(service, gathered, gather);
  await stopped();
  process.stdout.write('stopping\n');
  // A second signal ends the process at once.
  void stopped().then(() => process.exit(1));
  await service.close(values['drain-for']);
}

/** Reads the settings again on SIGHUP. */
function reloadOnSignal(service: Service, first: GatheredSettings, gather: () => GatheredSettings): void {
  let before = first;
  process.on('SIGHUP', () => {
    try {
      const after = gather();
      service.reload(toServiceOptions(after.values));
      const { taken, later } = compareSettings(before, after);
      process.stdout.write(`settings read again; changed: ${taken.join(', ') || 'nothing'}\n`);
      if (later.length > 0) {
        process.stdout.write(`${pc.yellow('later')} these apply after the next start: ${later.join(', ')}\n`);
        // Settings that were not applied are reported again the next time.
        for (const name of later) Object.assign(after.values, { [name]: before.values[name] });
      }
      before = after;
    } catch (error) {
      const advice = error instanceof CommandError && error.advice ? ` ${error.advice}` : '';
      process.stderr.write(`${pc.red('error')} the settings stay as they were: ${(error as Error).message}${advice}\n`);
    }
  });
}

/** Says how long the store still stands open, and when it is closed. */
function tellOpening(leftMs: number): void {
  process.stdout.write(
    leftMs === 0
      ? `${pc.green('closed')} The store is closed again: it takes keys and tokens.\n`
      : `${pc.yellow('open')} The store is open to everyone for another ${formatDuration(leftMs)}, until ${new Date(Date.now() + leftMs).toLocaleTimeString()}.\n`,
  );
}
