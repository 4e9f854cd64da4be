/** The version of the service, as its answers and its description state it. */
export const VERSION = '0.1.0';
