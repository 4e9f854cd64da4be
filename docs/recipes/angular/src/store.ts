import { connect } from '@uproar/client';

/** One thing to check before a balloon starts. */
export interface Check {
  text: string;
  done: boolean;
}

// The key is behind the # of the address, which browsers do not send to servers.
export const store = connect(location.origin, { token: location.hash.slice(1) });
export const checks = store.collection<Check>('checks');
