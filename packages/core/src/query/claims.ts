import { getMember, isObject, type JsonObject, type JsonValue } from '../json/json.js';

/** The claims of the caller's token. */
export type Claims = Readonly<JsonObject>;

/** The claim of a name: the member called so, or else the one that its parts between dots lead to. */
export function findClaim(claims: Claims, name: string): JsonValue | undefined {
  if (Object.hasOwn(claims, name)) return claims[name];
  let found: JsonValue | undefined = claims as JsonObject;
  for (const part of name.split('.')) {
    if (!isObject(found as JsonValue)) return undefined;
    found = getMember(found as JsonObject, part);
  }
  return found;
}
