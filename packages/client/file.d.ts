/** The client as one file for browsers, which needs no bundler. */
export declare const CLIENT_FILE: string;
