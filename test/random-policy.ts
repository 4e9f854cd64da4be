import type { Document, JsonObject } from '@uproar/core';
import type { Random } from './random.js';
import { modelCondition } from './random-query.js';

type Truth = boolean | undefined;

/** A rule as text, and an independent evaluation of it that shares no code with the product. */
export interface ModelRule {
  text: string;
  judge: (document: Document, claims: JsonObject) => Truth;
}

const OWNERS = ['ada', 'bo', 'cy'];
const GROUPS = ['north', 'south', 'east'];

/** The owner and the group of a document of the model; sometimes missing. */
export function modelOwner(random: Random): JsonObject {
  return {
    ...(random.chance(0.85) ? { owner: random.pick(OWNERS) } : {}),
    ...(random.chance(0.85) ? { group: random.pick(GROUPS) } : {}),
  };
}

/** Random claims of a user; sometimes one is missing, or has another type. */
export function modelClaims(random: Random): JsonObject {
  return {
    sub: random.pick(OWNERS),
    ...(random.chance(0.8) ? { role: random.pick(['director', 'crew', 7]) } : {}),
    ...(random.chance(0.8) ? { groups: random.chance(0.1) ? 'north' : GROUPS.filter(() => random.chance(0.5)) } : {}),
    ...(random.chance(0.7) ? { least: random.integer(-3, 12) } : {}),
  };
}

/** A random rule of claims and fields, joined and negated. */
export function modelRule(random: Random, depth = 2): ModelRule {
  switch (random.integer(0, depth > 0 ? 8 : 5)) {
    case 0:
      return {
        text: "owner = claim('sub')",
        judge: ({ data }, { sub }) =>
          typeof data.owner === 'string' && typeof sub === 'string' ? data.owner === sub : undefined,
      };
    case 1:
      return {
        text: "claim('role') = 'director'",
        judge: (_, { role }) => (typeof role === 'string' ? role === 'director' : undefined),
      };
    case 2:
      return {
        text: "A_CONTAINS(claim('groups'), [group])",
        judge: ({ data }, { groups }) =>
          Array.isArray(groups) && data.group !== undefined ? groups.includes(data.group) : undefined,
      };
    case 3:
      return {
        text: "altitude >= claim('least')",
        judge: ({ data }, { least }) =>
          typeof data.altitude === 'number' && typeof least === 'number' ? data.altitude >= least : undefined,
      };
    case 4:
      return { text: "claim('role') IS NULL", judge: (_, { role }) => role === undefined };
    case 5:
      return modelCondition(random, 1);
    case 6: {
      const inner = modelRule(random, depth - 1);
      return {
        text: `NOT (${inner.text})`,
        judge: (document, claims) => {
          const truth = inner.judge(document, claims);
          return truth === undefined ? undefined : !truth;
        },
      };
    }
    default: {
      const [a, b] = [modelRule(random, depth - 1), modelRule(random, depth - 1)];
      const decides = random.chance(0.6);
      return {
        text: `(${a.text}) ${decides ? 'OR' : 'AND'} (${b.text})`,
        judge: (document, claims) => {
          const truths = [a.judge(document, claims), b.judge(document, claims)];
          return truths.includes(decides) ? decides : truths.includes(undefined) ? undefined : !decides;
        },
      };
    }
  }
}

/** Fields that are concealed from everybody but keys. */
export function modelConceal(random: Random): string[] {
  return ['altitude', 'pilot.name', 'tags', 'status', 'pilot'].filter(() => random.chance(0.2));
}

/** A document without the fields at some paths, by plain means. */
export function modelWithout(document: Document, conceal: readonly string[]): Document {
  const data = structuredClone(document.data);
  for (const path of conceal) {
    const [outer, inner] = path.split('.') as [string, string?];
    const value = data[outer];
    if (inner === undefined) delete data[outer];
    else if (typeof value === 'object' && value !== null && !Array.isArray(value)) delete value[inner];
  }
  return { ...document, data };
}
