/** What the command's exit code means. */
export const EXIT = {
  done: 0,
  /** Something failed that is none of the below. */
  failed: 1,
  /** The command was not called as it must be. */
  usage: 2,
  /** The store cannot be reached. */
  unreachable: 3,
  /** The store does not accept the key. */
  refused: 4,
  /** There is no such document. */
  notFound: 5,
  /** The document is not at the version that was expected, or exists already. */
  conflict: 6,
  /** Ended by Ctrl-C, as shells count it. */
  interrupted: 130,
  /** The store or the backup was checked and is not sound. */
  unsound: 7,
} as const;

/** An error that is printed in one line, with advice in the next. */
export class CommandError extends Error {
  override name = 'CommandError';
  constructor(
    message: string,
    readonly exitCode: number = EXIT.failed,
    readonly advice?: string,
  ) {
    super(message);
  }
}
