import { closest } from 'fastest-levenshtein';
import { parse } from 'yaml';
import { CommandError, EXIT } from '../output/exit-codes.js';
import { readFile } from '../arguments/read-data.js';
import {
  describeSetting,
  SETTING_NAMES,
  SETTINGS,
  variableOf,
  type SettingName,
  type Settings,
} from './declaration.js';

/** A setting as it was written, and where. */
export interface SettingSource {
  text: string;
  from: string;
}

/** The gathered settings, and where each was given. */
export interface GatheredSettings {
  values: Settings;
  given: ReadonlyMap<SettingName, SettingSource>;
  /** Variables that look like settings and are none. */
  warnings: string[];
}

/** Variables that other commands read. */
const OTHER_VARIABLES = [
  'UPROAR_SETTINGS',
  'UPROAR_URL',
  'UPROAR_KEY',
  'UPROAR_PROFILE',
  'UPROAR_PROFILES',
  'UPROAR_PASSWORD',
];

/**
 * Gathers the settings: options first, then the environment, then the settings file, then the defaults.
 *
 * @param options the values of the options, by the names of the settings
 * @param file the settings file, YAML or JSON
 * @throws {CommandError} that names the setting and where it was given
 */
export function gatherSettings(
  options: Readonly<Partial<Record<SettingName, string>>>,
  file: string | undefined,
  environment: NodeJS.ProcessEnv = process.env,
): GatheredSettings {
  const inFile = file === undefined ? {} : readSettingsFile(file);
  const given = new Map<SettingName, SettingSource>();
  for (const name of SETTING_NAMES) {
    const variable = variableOf(name);
    if (options[name] !== undefined) given.set(name, { text: options[name], from: `--${name}` });
    else if (environment[variable]) given.set(name, { text: environment[variable], from: variable });
    else if (inFile[name] !== undefined) given.set(name, { text: inFile[name], from: file! });
  }
  const checked = SETTINGS.safeParse(Object.fromEntries([...given].map(([name, { text }]) => [name, text])));
  if (!checked.success) {
    const { path, message } = checked.error.issues[0]!;
    const name = path[0] as SettingName;
    throw new CommandError(`${name}, given by ${given.get(name)!.from}, is wrong: ${message}`, EXIT.usage);
  }
  return { values: checked.data, given, warnings: findUnknown(environment) };
}

/** Reads a settings file. Lists and numbers may be written as YAML has them. */
function readSettingsFile(file: string): Partial<Record<SettingName, string>> {
  let content: unknown;
  try {
    content = parse(readFile(file));
  } catch (error) {
    if (error instanceof CommandError) throw error;
    throw new CommandError(`${file} is no YAML: ${(error as Error).message.split('\n')[0]}`, EXIT.usage);
  }
  if (content === null || content === undefined) return {};
  if (typeof content !== 'object' || Array.isArray(content)) {
    throw new CommandError(`${file} holds no settings.`, EXIT.usage, 'Write one a line, like "journal-age: 30d".');
  }
  return Object.fromEntries(
    Object.entries(content)
      .filter(([, value]) => value !== null)
      .map(([name, value]) => {
        if (!(SETTING_NAMES as string[]).includes(name)) {
          const near = closest(name, SETTING_NAMES);
          throw new CommandError(`${file}: there is no setting "${name}".`, EXIT.usage, `Did you mean "${near}"?`);
        }
        return [name, writeValue(value, name, file)];
      }),
  );
}

function writeValue(value: unknown, name: string, file: string): string {
  if (['string', 'number', 'boolean'].includes(typeof value)) return String(value);
  if (Array.isArray(value)) return value.map((item) => writeValue(item, name, file)).join(',');
  throw new CommandError(`${file}: "${name}" takes one value or a list of them.`, EXIT.usage);
}

/** A misspelt variable would do nothing, without a word. */
function findUnknown(environment: NodeJS.ProcessEnv): string[] {
  const known = [...SETTING_NAMES.map(variableOf), ...OTHER_VARIABLES];
  return Object.keys(environment)
    .filter((name) => name.startsWith('UPROAR_') && !known.includes(name))
    .map((name) => `${name} is no setting; did you mean ${closest(name, known)}?`);
}

/** Which settings differ, and which of those a running service does not take. */
export function compareSettings(
  before: GatheredSettings,
  after: GatheredSettings,
): { taken: SettingName[]; later: SettingName[] } {
  const differing = SETTING_NAMES.filter(
    (name) => JSON.stringify(before.values[name]) !== JSON.stringify(after.values[name]),
  );
  const isTaken = (name: SettingName) => describeSetting(name).reload === true;
  return { taken: differing.filter(isTaken), later: differing.filter((name) => !isTaken(name)) };
}
