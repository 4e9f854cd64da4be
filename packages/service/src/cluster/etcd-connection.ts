import type { IOptions } from 'etcd3';
import { ConstantBackoff, noop } from 'cockatiel';

/** How the log service is reached. */
export interface EtcdOptions {
  /** The addresses of the members: `http://10.0.0.1:2379`. */
  urls: readonly string[];
  /** In front of all keys, so that several clusters can share one service. */
  prefix: string;
  user?: { name: string; password: string } | undefined;
  /** Certificates in PEM: the certificate of the authority, and the certificate and key of this client. */
  tls?: { authority: Buffer; cert?: Buffer | undefined; key?: Buffer | undefined } | undefined;
}

/** A call to the log service may take so long, in milliseconds. */
const CALL_MS = 1500;

/** A lost watch is replaced by a new one; this one stays for so long, in milliseconds. */
const WATCH_AGAIN_MS = 250;

/** The largest message from the log service, in bytes. */
const MAX_MESSAGE_BYTES = 256 * 1024 * 1024;

/**
 * The options of a connection to some members of the log service.
 *
 * @param pings whether the connection is also tried while nothing is asked, so that a lost one is noticed soon
 */
export function connectionOptions({ user, tls }: EtcdOptions, urls: readonly string[], pings = true): IOptions {
  return {
    hosts: [...urls],
    // Its circuit breakers would refuse calls for a while after an error. Here every call is repeated by its caller.
    faultHandling: { host: () => noop, global: noop, watchBackoff: new ConstantBackoff(WATCH_AGAIN_MS).next() },
    defaultCallOptions: ({ isStream }) => (isStream ? {} : { deadline: Date.now() + CALL_MS }),
    grpcOptions: {
      'grpc.max_receive_message_length': MAX_MESSAGE_BYTES,
      // etcd closes connections that ping more often than every five seconds.
      'grpc.keepalive_time_ms': 6000,
      'grpc.keepalive_timeout_ms': 2000,
      'grpc.keepalive_permit_without_calls': pings ? 1 : 0,
      'grpc.initial_reconnect_backoff_ms': 100,
      'grpc.max_reconnect_backoff_ms': 1000,
    },
    ...(user ? { auth: { username: user.name, password: user.password } } : {}),
    ...(tls ? { credentials: credentialsOf(tls) } : {}),
  };
}

function credentialsOf({
  authority,
  cert,
  key,
}: NonNullable<EtcdOptions['tls']>): NonNullable<IOptions['credentials']> {
  return {
    rootCertificate: authority,
    ...(cert && key ? { certChain: cert, privateKey: key } : {}),
  };
}
