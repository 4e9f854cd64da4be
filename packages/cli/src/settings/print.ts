import pc from 'picocolors';
import { stringify } from 'yaml';
import { defaultOf, describeSetting, SETTING_NAMES } from './declaration.js';
import type { Gathered } from './gather.js';

/** All settings as a settings file, with where each value came from; what is not set stands there as a comment. */
export function printSettings({ given }: Gathered): string {
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
    pc.dim('# Settings, and where each comes from. Those with SIGHUP can be altered while the service runs.'),
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
