import { ProblemError, type Store } from '@uproar/client';
import type { PolicyAnswer, PolicyVersion, PolicyWarning } from '@uproar/protocol';
import { computed, ref, shallowRef, watch, type ComputedRef, type Ref } from 'vue';
import { dropDraft, keepDraft, readDraft } from '../unsaved/drafts';
import { usePolled } from '../shared/use-polled';

/** How often the policy is polled for new versions, in milliseconds. */
const LOOK_EVERY_MS = 2500;
/** How long after the last keystroke the text is checked, in milliseconds. */
const CHECK_AFTER_MS = 400;
const KEY = 'policy';

interface Kept {
  text: string;
  note: string;
  base: PolicyVersion;
}

/** The policy while it is edited. */
export interface PolicyEdit {
  readonly text: Ref<string>;
  readonly note: Ref<string>;
  /** The version in force now, and all versions, the newest first. */
  readonly inForce: Ref<PolicyVersion | undefined>;
  readonly versions: Ref<PolicyVersion[]>;
  /** The version that the edit began with. */
  readonly base: Ref<PolicyVersion | undefined>;
  /** Whether the text is another one than that in force. */
  readonly altered: ComputedRef<boolean>;
  /** Whether the text is a person's own, and not that of a version. */
  readonly own: ComputedRef<boolean>;
  /** Whether another version has been set since the edit began. */
  readonly overtaken: ComputedRef<boolean>;
  /** The error in the text; empty if there is none. */
  readonly fault: Ref<string>;
  readonly warnings: Ref<PolicyWarning[]>;
  /** The text as it was last found sound. */
  readonly sound: Ref<string | undefined>;
  /** Why the policy could not be read. */
  readonly failure: Ref<string>;
  /** Replaces the text in the editor by that of a version. */
  take(version: PolicyVersion): void;
  /** Continues the text as an edit of the present version. */
  continueEditing(): void;
  /** Sets the policy, unless another version has been set since the edit began. */
  putInForce(): Promise<PolicyAnswer>;
}

/** Edits the policy. The text is kept as a draft until it is set or discarded. */
export function usePolicyEdit(store: Store): PolicyEdit {
  const kept = readDraft<Kept>(KEY);
  const text = ref(kept?.text ?? '');
  const note = ref(kept?.note ?? '');
  const base = shallowRef(kept?.base);
  const versions = shallowRef<PolicyVersion[]>([]);
  const fault = ref('');
  const warnings = shallowRef<PolicyWarning[]>([]);
  const sound = ref<string>();

  const {
    value: inForce,
    failure,
    again,
  } = usePolled(LOOK_EVERY_MS, async (before: PolicyVersion | undefined) => {
    const policy = await store.fetch<PolicyVersion>('/v1/policy');
    if (policy.version !== before?.version) {
      const listed = await store.fetch<{ versions: PolicyVersion[] }>('/v1/policy/versions');
      versions.value = listed.versions;
    }
    return policy;
  });

  const altered = computed(() => inForce.value !== undefined && text.value !== inForce.value.text);
  const isVersion = (written: string) => [base.value, ...versions.value].some((version) => version?.text === written);
  const own = computed(() => inForce.value !== undefined && !isVersion(text.value));
  const overtaken = computed(
    () => own.value && base.value !== undefined && inForce.value!.version > base.value.version,
  );

  const take = (version: PolicyVersion) => {
    text.value = version.text;
    base.value = inForce.value;
  };
  // While the text is that of a version, unedited, the editor follows the present version.
  watch(inForce, (policy, before) => {
    if (!policy || policy.version === before?.version) return;
    const untouched = base.value === undefined || (before && text.value === before.text) || !own.value;
    if (before === undefined && kept) return;
    if (untouched) [text.value, base.value] = [policy.text, policy];
  });
  watch(
    [text, note, base, own],
    () => {
      if (!base.value || !own.value) return;
      const value: Kept = { text: text.value, note: note.value, base: base.value };
      keepDraft({ key: KEY, value, edit: { label: 'Policy', path: '/access/policy' } });
    },
    { flush: 'sync' },
  );
  watch([own, inForce], () => {
    if (inForce.value && !own.value) dropDraft(KEY);
  });

  const put = async (body: object) => (await (await store.request('PUT', '/v1/policy', body)).json()) as PolicyAnswer;
  const check = async () => {
    const checked = text.value;
    try {
      const answer = await put({ text: checked, dryRun: true });
      if (text.value !== checked) return;
      warnings.value = answer.warnings;
      fault.value = '';
      sound.value = checked;
    } catch (error) {
      if (text.value !== checked || !(error instanceof ProblemError)) return;
      fault.value = error.problem.detail;
      warnings.value = [];
    }
  };
  let timer: ReturnType<typeof setTimeout> | undefined;
  watch(
    text,
    (written) => {
      clearTimeout(timer);
      if (written !== '') timer = setTimeout(() => void check(), sound.value === undefined ? 0 : CHECK_AFTER_MS);
    },
    { immediate: true },
  );

  return {
    ...{ text, note, inForce, versions, base, altered, own, overtaken, fault, warnings, sound, failure, take },
    continueEditing: () => (base.value = inForce.value),
    putInForce: async () => {
      const sent = text.value;
      try {
        const answer = await put({ text: sent, note: note.value || undefined, ifVersion: base.value?.version });
        base.value = answer;
        note.value = '';
        return answer;
      } finally {
        again();
      }
    },
  };
}
