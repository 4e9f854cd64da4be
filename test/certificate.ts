import { execFileSync } from 'node:child_process';
import { readFileSync } from 'node:fs';
import { join } from 'node:path';

/** A certificate for localhost that signs itself, and its key, as files and as text. */
export interface Certificate {
  certFile: string;
  keyFile: string;
  cert: string;
  key: string;
}

/** Makes a certificate in a folder. */
export function makeCertificate(directory: string): Certificate {
  const [certFile, keyFile] = [join(directory, 'cert.pem'), join(directory, 'key.pem')];
  const subject = ['-subj', '/CN=localhost', '-addext', 'subjectAltName=DNS:localhost,IP:127.0.0.1'];
  const key = ['-newkey', 'ec', '-pkeyopt', 'ec_paramgen_curve:P-256', '-nodes', '-keyout', keyFile];
  execFileSync('openssl', ['req', '-x509', '-days', '2', ...subject, ...key, '-out', certFile], { stdio: 'ignore' });
  return { certFile, keyFile, cert: readFileSync(certFile, 'utf8'), key: readFileSync(keyFile, 'utf8') };
}
