import canonicalize from 'canonicalize';
import type { JsonValue } from './json.js';

/** The one text of a JSON value in the JSON Canonicalization Scheme (RFC 8785): equal values have equal texts. */
export const canonicalText = canonicalize as unknown as (value: JsonValue) => string;
