import { readFileSync } from 'node:fs';
import { createRequire } from 'node:module';
import type { Page } from 'playwright-core';

const AXE = readFileSync(createRequire(import.meta.url).resolve('axe-core/axe.min.js'), 'utf8');

/** Elements that repeat. Only the first two of each list are checked. */
const ALIKE = ['[data-row]', '[data-card]', '[role=option]'];

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
  if (!(await page.evaluate(() => 'axe' in globalThis))) await page.evaluate(AXE);
  const { violations } = await page.evaluate(
    ({ rules, alike }) =>
      (globalThis as unknown as { axe: Axe }).axe.run(
        { exclude: alike.map((one) => [`${one} ~ ${one} ~ ${one}`]) },
        { resultTypes: ['violations'], preload: false, ...rules },
      ),
    { rules: options, alike: ALIKE },
  );
  return violations
    .filter(({ impact }) => impact === 'serious' || impact === 'critical')
    .map(({ id, nodes }) => {
      const shown = nodes.slice(0, 3).map(({ html }) => html.slice(0, 160));
      return `${id}: ${shown.join(' | ')}`;
    });
}
