import { existsSync, mkdirSync, readFileSync, renameSync, writeFileSync } from 'node:fs';
import { homedir } from 'node:os';
import { dirname, join } from 'node:path';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** A store that is known by a name. */
export interface Profile {
  url: string;
  key?: string;
}

/** The profiles, and the default one. */
export interface Profiles {
  default?: string;
  profiles: Record<string, Profile>;
}

/** Where profiles are kept: UPROAR_PROFILES, or `uproar/profiles.json` in the folder for settings (XDG Base Directory). */
export function profilesFile(environment: NodeJS.ProcessEnv = process.env): string {
  if (environment.UPROAR_PROFILES) return environment.UPROAR_PROFILES;
  return join(environment.XDG_CONFIG_HOME || join(homedir(), '.config'), 'uproar', 'profiles.json');
}

/**
 * Reads the profiles; where there is no file, there are none.
 *
 * @throws {CommandError} when the file is not one of profiles
 */
export function readProfiles(file = profilesFile()): Profiles {
  if (!existsSync(file)) return { profiles: {} };
  try {
    const value = JSON.parse(readFileSync(file, 'utf8')) as Partial<Profiles> | null;
    const sound = Object.values(value?.profiles ?? {}).every(({ url }) => typeof url === 'string');
    if (value && typeof value.profiles === 'object' && sound) return value as Profiles;
  } catch (error) {
    if (!(error instanceof SyntaxError) && !(error instanceof TypeError)) throw error;
  }
  throw new CommandError(
    `${file} is not a profiles file.`,
    EXIT.usage,
    'Correct it, or remove it and add the profiles again.',
  );
}

/** Writes the profiles, readable only for their owner: they contain keys. */
export function writeProfiles(profiles: Profiles, file = profilesFile()): void {
  mkdirSync(dirname(file), { recursive: true, mode: 0o700 });
  const next = `${file}.${process.pid}`;
  writeFileSync(next, `${JSON.stringify(profiles, null, 2)}\n`, { mode: 0o600 });
  renameSync(next, file);
}

/** Where something comes from that a command goes by. */
export type Origin = 'option' | 'environment' | `profile ${string}` | 'default';

/** Which store a command is about. */
export interface Target {
  url: string;
  urlFrom: Origin;
  key: string | undefined;
  keyFrom: Origin;
}

/**
 * Finds the selected store: from options, then the environment, then the default profile. The key of a profile is only
 * sent to its own address.
 *
 * @throws {CommandError} when the profile does not exist
 */
export function findTarget(
  options: { url?: string; key?: string; profile?: string },
  builtIn: string,
  environment: NodeJS.ProcessEnv = process.env,
): Target {
  const named = options.profile ?? (environment.UPROAR_URL ? undefined : environment.UPROAR_PROFILE);
  const byDefault = options.url === undefined && !environment.UPROAR_URL;
  const profiles: Profiles =
    named !== undefined || byDefault ? readProfiles(profilesFile(environment)) : { profiles: {} };
  const name = named ?? (byDefault ? profiles.default : undefined);
  const profile = name === undefined ? undefined : profiles.profiles[name];
  if (name !== undefined && !profile) {
    const known = Object.keys(profiles.profiles);
    throw new CommandError(
      `The profile "${name}" does not exist.`,
      EXIT.usage,
      known.length > 0 ? `There are: ${known.join(', ')}.` : `Add it with: uproar profile add ${name} --url …`,
    );
  }
  const from: Origin = `profile ${name}`;
  const address: [string, Origin] =
    options.url !== undefined
      ? [options.url, 'option']
      : profile
        ? [profile.url, from]
        : environment.UPROAR_URL
          ? [environment.UPROAR_URL, 'environment']
          : [builtIn, 'default'];
  const own = profile?.url === address[0] && profile.key !== undefined ? profile.key : undefined;
  const key: [string | undefined, Origin] = options.key
    ? [options.key, 'option']
    : own !== undefined && options.profile !== undefined
      ? [own, from]
      : environment.UPROAR_KEY
        ? [environment.UPROAR_KEY, 'environment']
        : own !== undefined
          ? [own, from]
          : [undefined, 'default'];
  return { url: address[0], urlFrom: address[1], key: key[0], keyFrom: key[1] };
}
