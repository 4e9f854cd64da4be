import type { PolicyDecision } from '@uproar/protocol';
import pc from 'picocolors';
import { cutLine, formatValue } from '../output/output.js';

/** Prints a policy decision: allowed or not, the rule, the results of its parts, and the values it read. */
export function printDecision(what: string, attempted: string, decision: PolicyDecision): void {
  const { allowed, rule, pointer, condition, parts, values, concealed, document } = decision;
  const lines = [`${allowed ? pc.green('allowed') : pc.red('refused')} ${what}`];
  if (rule !== attempted) lines.push('  They may not read it, so it does not exist for them.');
  if (condition === null) lines.push(`  There is no rule "${rule}" for this collection, so the action is not allowed.`);
  else {
    lines.push(`  ${pc.dim('rule')}    ${pointer}: ${condition}`);
    if (parts.length > 1) for (const part of parts) lines.push(`          ${markOf(part.truth)} ${part.condition}`);
    const seen = Object.entries(values).map(([name, value]) => `${name} = ${formatValue(value as never, 60)}`);
    lines.push(`  ${pc.dim('values')}  ${seen.length === 0 ? 'none of the fields and claims' : seen.join(', ')}`);
  }
  if (concealed.length > 0) lines.push(`  ${pc.dim('without')} ${concealed.join(', ')}`);
  if (document) lines.push(`  ${pc.dim('sees')}    ${JSON.stringify(document.data)}`);
  process.stdout.write(lines.map(cutLine).join('\n') + '\n');
}

function markOf(truth: boolean | null): string {
  return truth === true ? pc.green('yes    ') : truth === false ? pc.red('no     ') : pc.yellow('unknown');
}
