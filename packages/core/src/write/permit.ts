import type { PatchWork } from '../json/json-patch.js';
import { refuseUnmet } from './condition.js';
import { applyWrite, formatAddress, movesEnd, type Refusal, type Write, type WriteOutcome } from './commit.js';
import type { Document, DocumentLimits } from '../document/document.js';
import { formatPointer } from '../json/pointer.js';
import { joinName } from '../query/names.js';
import { coversConcealed, restoreFields } from '../policy/conceal.js';
import { withoutFields, type Paths } from '../document/field-paths.js';
import { sees, type Access, type RuleName } from '../policy/policy.js';

/**
 * Applies one write for a caller. What the caller may not see behaves as if it did not exist; concealed fields keep
 * their values unless the write sets them.
 *
 * @param work counts the steps of all patches of the commit
 * @param isHeld whether the document lives as long as a connection already
 * @returns like {@link applyWrite}; a refusal reveals nothing hidden
 */
export function applyPermitted(
  current: Document | undefined,
  write: Write,
  stamp: { seq: number; timeMs: number },
  limits: DocumentLimits,
  access: Access,
  work?: PatchWork,
  isHeld = false,
): WriteOutcome {
  const { conceal } = access;
  const seen = current && sees(access, current) ? withoutFields(current, conceal) : undefined;
  const adjusted = write.kind === 'adjust' && conceal.length > 0 ? concealedAmong(write.by, conceal) : undefined;
  if (adjusted !== undefined) {
    return refuse(
      write,
      seen,
      'update',
      `The field ${adjusted} is concealed from you. You can set it, but not adjust it.`,
    );
  }
  const unmet = refuseUnmet(seen, write);
  if (unmet) return { refusal: unmet };
  const outcome = applyWrite(seen, write, stamp, limits, work);
  if ('refusal' in outcome) return outcome;
  if (outcome.kept) {
    // Nothing was there to end.
    if (!current && write.kind === 'delete') return outcome;
    // A write that changes nothing still needs the permission.
    const rule = write.kind === 'create' ? 'create' : 'update';
    const document = write.kind === 'create' ? { ...current!, data: write.data } : current!;
    const scope = rule === 'create' ? { document } : { document, before: current };
    return access.allows(rule, scope) ? { after: current, kept: true } : refuse(write, seen, rule);
  }
  if (current && !seen) return refuse(write, undefined, 'create');
  if (seen && outcome.after && coversConcealed(outcome.after.data, seen.data, conceal)) {
    return refuse(write, seen, 'update', OVER_CONCEALED);
  }
  const after = current && outcome.after && restore(outcome.after, current, conceal);
  if (after === null) {
    return refuse(write, seen, 'update', OVER_CONCEALED);
  }
  const result = after ?? outcome.after;
  const rule = !current ? 'create' : result ? 'update' : 'delete';
  if (!access.allows(rule, { document: (result ?? current)!, before: current })) return refuse(write, seen, rule);
  // Whoever gives a document an end decides that it is deleted.
  const holds = write.kind === 'put' && write.holdFor !== undefined && !isHeld;
  if (current && (holds || (result?.expires !== undefined && movesEnd(write)))) {
    if (!access.allows('delete', { document: current, before: current })) return refuse(write, seen, 'delete', NO_END);
  }
  return { after: result };
}

const NO_END =
  'Only those who may delete this document may say when it ends: the rule "delete" of its collection refuses.';

const OVER_CONCEALED = 'The write would replace an object that contains a concealed field.';

/** The document with its concealed fields restored; null if there is no place for one of them. */
function restore(after: Document, current: Document, conceal: Paths): Document | null {
  if (conceal.length === 0) return after;
  const data = restoreFields(after.data, current.data, conceal);
  return data ? { ...after, data } : null;
}

function concealedAmong(by: object, conceal: Paths): string | undefined {
  const pointers = Object.keys(by);
  const path = conceal.find((fields) => {
    const beginning = formatPointer(fields);
    return pointers.some(
      (pointer) => pointer === beginning || pointer.startsWith(`${beginning}/`) || beginning.startsWith(`${pointer}/`),
    );
  });
  return path && joinName(path);
}

function refuse(
  { collection, id }: Write,
  seen: Document | undefined,
  rule: RuleName,
  reason = `The policy does not allow you to ${rule} ${formatAddress(collection, id)}: its rule "${rule}" for ${collection} refuses.`,
): { refusal: Refusal } {
  return {
    refusal: { kind: 'not-allowed', collection, id, currentVersion: seen?.version ?? 0, rule, detail: reason },
  };
}
