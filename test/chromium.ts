import { existsSync } from 'node:fs';
import type { LaunchOptions } from 'playwright-core';

const HEADLESS = '/usr/bin/chromium-headless-shell';

/** How tests start Debian's Chromium: without anything that would look for a network. */
export const CHROMIUM: LaunchOptions = {
  executablePath: process.env.CHROMIUM_PATH ?? (existsSync(HEADLESS) ? HEADLESS : '/usr/bin/chromium'),
  args: [
    '--no-sandbox',
    '--disable-gpu',
    '--disable-quic',
    '--no-first-run',
    '--disable-background-networking',
    '--disable-component-update',
    '--disable-sync',
  ],
};
