import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { CLIENT_FILE } from '@uproar/client/file';
import { CONSOLE_DIRECTORY } from '@uproar/console';
import type { Service, ServiceOptions } from '@uproar/service';
import { CommandError, EXIT } from '../output/exit-codes.js';

/** The pages of the documentation, where they have been made. */
const DOCS_DIRECTORY = fileURLToPath(new URL('../docs', import.meta.url));

/** Starts a service with the console and the client for browsers. Errors say what to do. */
export async function startService(
  options: Omit<ServiceOptions, 'consoleDirectory' | 'clientFile' | 'docsDirectory'>,
): Promise<Service> {
  // The service is loaded only where it is run, so that the other commands start quickly.
  const { startService: start } = await import('@uproar/service');
  try {
    return await start({
      consoleDirectory: CONSOLE_DIRECTORY,
      clientFile: CLIENT_FILE,
      ...(existsSync(DOCS_DIRECTORY) ? { docsDirectory: DOCS_DIRECTORY } : {}),
      ...options,
    });
  } catch (error) {
    const { code } = error as NodeJS.ErrnoException;
    const place = `${options.host}:${options.port}`;
    if (code === 'EADDRINUSE')
      throw new CommandError(`Another program listens at ${place}.`, EXIT.failed, 'Choose another port with --port.');
    if (code === 'EACCES')
      throw new CommandError(
        `This user may not listen at ${place}.`,
        EXIT.failed,
        'Choose a port above 1023 with --port.',
      );
    if (code === 'EADDRNOTAVAIL' || code === 'ENOTFOUND') {
      throw new CommandError(
        `This machine has no address ${options.host}.`,
        EXIT.usage,
        'Choose another one with --host.',
      );
    }
    throw error;
  }
}

/** Waits until the process is asked to stop. */
export function stopped(): Promise<void> {
  return new Promise((resolve) => {
    process.once('SIGINT', () => resolve());
    process.once('SIGTERM', () => resolve());
  });
}
