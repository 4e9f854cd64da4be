import type { SetupStep, StoreSetup } from '@uproar/protocol';
import { createTwoFilesPatch } from 'diff';
import pc from 'picocolors';
import { stringify } from 'yaml';

const SIGNS = { create: '+', change: '~', remove: '-', leave: ' ' };
const COLOURS = { create: pc.green, change: pc.yellow, remove: pc.red, leave: pc.dim };

/** A step on one line, and under it the problem that it has. */
export function describeStep({ part, name, action, detail, problem }: SetupStep): string {
  const what = part === 'policy' ? part : `${part} ${name}`;
  const remark = action === 'leave' ? 'only in the store; it stays' : (detail ?? '');
  const line = `${SIGNS[action]} ${what}${remark === '' ? '' : `  ${pc.dim(remark)}`}`;
  return COLOURS[action](line) + (problem ? `\n    ${pc.red(problem.detail)}` : '');
}

/** The difference between the texts of a part in the store and in the folder, as lines to read. */
export function diffOf({ part, name }: SetupStep, store: StoreSetup, folder: StoreSetup): string[] {
  const [before, after] = [textOf(part, name, store), textOf(part, name, folder)];
  if (before === '' || after === '') return [];
  const patch = createTwoFilesPatch('', '', before, after, undefined, undefined, { context: 2 });
  const lines = patch.split('\n');
  return lines
    .slice(lines.findIndex((line) => line.startsWith('@@')))
    .filter((line) => line !== '' && !line.startsWith('\\'))
    .map((line) => `    ${line.startsWith('+') ? pc.green(line) : line.startsWith('-') ? pc.red(line) : pc.dim(line)}`);
}

function textOf(part: SetupStep['part'], name: string, setup: StoreSetup): string {
  if (part === 'policy') return setup.policy ?? '';
  const value = part === 'schema' ? setup.schemas[name] : part === 'hook' ? setup.hooks[name] : undefined;
  return value === undefined ? '' : stringify(value, { sortMapEntries: true });
}
