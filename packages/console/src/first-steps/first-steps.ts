import { ProblemError, type Store, type View } from '@uproar/client';
import type { BackupRecord, ConnectionListing } from '@uproar/protocol';

/** The first things to do with a store, and whether each is done: found out by looking, not by asking. */
export interface FirstSteps {
  /** What was found, in words; undefined while it is not done. */
  document: string | undefined;
  live: string | undefined;
  policy: string | undefined;
  backup: string | undefined;
}

/**
 * Looks how far a store has come. What the caller may not know counts as not done.
 *
 * @param isAdmin whether the caller may be an administrator; others are not asked for, as they would be refused each time
 */
export async function lookAtSteps(store: Store, collections: View | undefined, isAdmin: boolean): Promise<FoundSteps> {
  let refused = !isAdmin;
  const orNothing = async (look: (of: Store) => Promise<string | undefined>): Promise<string | undefined> => {
    if (refused) return undefined;
    try {
      return await look(store);
    } catch (error) {
      if (!(error instanceof ProblemError) || error.problem.status !== 403) throw error;
      refused = true;
      return undefined;
    }
  };
  // One after the other: after the first refusal there is no other.
  const live = await orNothing(findWatcher);
  const policy = await orNothing(findPolicy);
  const backup = await orNothing(findBackup);
  const [first] = collections?.documents ?? [];
  return { document: first && `The collection “${first.id}” is there.`, live, policy, backup, refused };
}

/** Steps, and whether the caller was refused to look at some of them. */
export type FoundSteps = FirstSteps & { refused: boolean };

/** A connection that watches something and is not a console. */
async function findWatcher(store: Store): Promise<string | undefined> {
  const { connections } = await store.fetch<ConnectionListing>('/v1/connections?limit=100');
  const found = connections.find(({ device, watches }) => device !== 'console' && watches.length > 0);
  const watched = found?.watches[0];
  if (!found || !watched) return undefined;
  const what = 'doc' in watched ? String(watched.doc) : (watched.query?.from ?? 'the collections');
  return `${found.device ?? found.address} watches ${what}.`;
}

async function findPolicy(store: Store): Promise<string | undefined> {
  const { version } = await store.fetch<{ version: number }>('/v1/policy');
  return version > 0 ? `Version ${version} of a policy is in force.` : undefined;
}

async function findBackup(store: Store): Promise<string | undefined> {
  const { backups } = await store.fetch<{ backups: BackupRecord[] }>('/v1/backups?limit=1');
  return backups[0] && `The last one was made ${new Date(backups[0].time).toLocaleString()}.`;
}

/** A first policy: what the collection holds can be read by everybody who has signed in, and written by its author. */
export const FIRST_POLICY = `# Who may see and change what. Everything else is refused; keys are not bound by the policy.
collections:
  notes:
    # Everybody who has signed in reads all notes.
    read: "claim('sub') IS NOT NULL"
    # People write notes under their own name, and change only those.
    create: "by = claim('sub')"
    update: "by = claim('sub') AND by = was('by')"
    delete: "by = claim('sub')"
`;

/** A page without a build step that shows a collection live. */
export function pageFor(origin: string): string {
  return `<!doctype html>
<meta charset="utf-8">
<title>Notes, live</title>
<h1>Notes</h1>
<p id="state">Connecting…</p>
<ul id="notes"></ul>
<script type="module">
  import { connect } from '${origin}/client/uproar.js';

  const token = prompt('Key of the store'); // an app signs people in instead
  const store = connect('${origin}', { token, device: 'first-page' });
  store.collection('notes').watch().subscribe(({ state, documents, error }) => {
    document.getElementById('state').textContent = error ? error.detail : state;
    document.getElementById('notes').replaceChildren(
      ...documents.map(({ id, data }) => {
        const item = document.createElement('li');
        item.textContent = id + ': ' + JSON.stringify(data);
        return item;
      }),
    );
  });
</script>
`;
}
