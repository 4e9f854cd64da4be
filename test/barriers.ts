import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import type { Page } from 'playwright-core';

const AXE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

interface Axe {
  run(context: object, options: object): Promise<{ violations: Violation[] }>;
}

interface Violation {
  id: string;
  impact: string;
  nodes: { html: string }[];
}

/** What axe reports of a page as serious or critical; with contrast, in light and in dark colours. */
export async function findBarriers(page: Page, contrast = false): Promise<string[]> {
  const found = await findIn(page, contrast ? {} : { rules: { 'color-contrast': { enabled: false } } });
  if (!contrast) return found;
  await page.emulateMedia({ colorScheme: 'dark' });
  found.push(...(await findIn(page, { runOnly: ['color-contrast'] })).map((one) => `dark: ${one}`));
  await page.emulateMedia({ colorScheme: 'light' });
  return found;
}

async function findIn(page: Page, options: object): Promise<string[]> {
  await page.evaluate(AXE);
  // Rows are all alike; the first few stand for the others.
  const { violations } = await page.evaluate(
    (rules) =>
      (globalThis as unknown as { axe: Axe }).axe.run(
        { exclude: [['[data-row] ~ [data-row] ~ [data-row]'], ['[role=option] ~ [role=option] ~ [role=option]']] },
        { resultTypes: ['violations'], ...rules },
      ),
    options,
  );
  return violations
    .filter(({ impact }) => impact === 'serious' || impact === 'critical')
    .map(({ id, nodes }) => {
      const shown = nodes.slice(0, 3).map(({ html }) => html.slice(0, 160));
      return `${id}: ${shown.join(' | ')}`;
    });
}
