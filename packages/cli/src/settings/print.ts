import pc from 'picocolors';
import { stringify } from 'yaml';
import { defaultOf, describeSetting, SETTING_NAMES } from './declaration.js';
import type { GatheredSettings } from './gather.js';

/** All settings as a settings file, with the source of each value; settings without a value are comments. */
export function printSettings({ given }: GatheredSettings): string {
  const lines = SETTING_NAMES.map((name) => {
    const { secret, usual, reload } = describeSetting(name);
    const said = given.get(name);
    const text = said?.text ?? defaultOf(name);
    const setting =
      text === undefined || (secret && said) ? `# ${name}:` : stringify({ [name]: readable(text) }).trim();
    const origin = said ? `${said.from}${secret ? ', hidden' : ''}` : `default${usual ? `, ${usual}` : ''}`;
    return { setting, said: said !== undefined, comment: `${origin}${reload ? '; SIGHUP' : ''}` };
  });
  const width = Math.min(44, Math.max(...lines.map(({ setting }) => setting.length)));
  return [
    pc.dim('# Settings and their sources. Settings marked SIGHUP can be changed while the service runs.'),
    ...lines.map(({ setting, said, comment }) => {
      const padded = setting.padEnd(width);
      return `${said ? pc.bold(padded) : setting.startsWith('#') ? pc.dim(padded) : padded}  ${pc.dim(`# ${comment}`)}`;
    }),
    '',
  ].join('\n');
}

/** Numbers and words that YAML knows stand as they are. */
function readable(text: string): string | number | boolean {
  if (text === 'true' || text === 'false') return text === 'true';
  return /^\d{1,9}$/.test(text) ? Number(text) : text;
}
