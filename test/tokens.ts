import { SignJWT } from 'jose';

/** The secret of the tokens that tests make. */
export const TOKEN_SECRET = 'a secret of the tests, longer than 32 bytes';

/** How a service is started that takes the tokens of tests. */
export const TOKEN_SETTINGS = { secret: TOKEN_SECRET, issuer: 'https://id.festival.test', audience: 'festival' };

/** A token that is valid for some seconds. */
export function makeToken(
  claims: Record<string, unknown>,
  lifetimeSeconds = 600,
  secret = TOKEN_SECRET,
): Promise<string> {
  const now = Math.floor(Date.now() / 1000);
  return new SignJWT({
    iss: TOKEN_SETTINGS.issuer,
    aud: TOKEN_SETTINGS.audience,
    iat: now,
    exp: now + lifetimeSeconds,
    ...claims,
  })
    .setProtectedHeader({ alg: 'HS256', typ: 'JWT' })
    .sign(new TextEncoder().encode(secret));
}
