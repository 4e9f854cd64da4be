/** Where the built console lies. */
export declare const CONSOLE_DIRECTORY: string;
