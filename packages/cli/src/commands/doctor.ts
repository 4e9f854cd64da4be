import { accessSync, constants, existsSync, statfsSync, statSync } from 'node:fs';
import { resolve } from 'node:path';
import { ProblemError, type Store } from '@uproar/client';
import { formatBytes, formatDuration } from '@uproar/core';
import type {
  ClusterState,
  Erasure,
  EtcdTrial,
  HookInfo,
  MetricsReport,
  PolicyAnswer,
  PolicyVersion,
} from '@uproar/protocol';
import { CLOCK_DIFFERENCE_MS } from '@uproar/protocol/timing';
import { VERSION } from '@uproar/service/settings';
import type { Command } from 'commander';
import pc from 'picocolors';
import { countOf } from '../output/count-of.js';
import { EXIT } from '../output/exit-codes.js';
import { connectTo, targetOf, withStoreOptions, type StoreOptions } from '../connect/open-store.js';
import { printJson } from '../output/output.js';
import type { Target } from '../connect/profiles.js';

/** The result of one check, with advice. */
interface Finding {
  about: string;
  state: 'good' | 'warning' | 'bad' | 'unknown';
  detail: string;
  mend?: string;
}

type Options = StoreOptions & { data?: string; json?: boolean };

/** The first event of an unbuffered stream arrives within this time, in milliseconds. */
const STREAM_WITHIN_MS = 4000;
/** A node may be so many entries of the log behind. */
const MOST_LAG = 1000;
/** An erasure reaches the files of all nodes within this time, in milliseconds. */
const ERASED_WITHIN_MS = 60_000;
const LEAST_FREE_BYTES = 1_000_000_000;
const LEAST_FREE_PART = 0.05;
const MAKE_ROOM = 'Make room, cut the journal (serve --journal-age 30d), or move the store to a larger disk.';
/** Files that the service has open beside its connections. */
const SPARE_FILES = 100;

/** `uproar doctor`: checks the usual causes of problems. */
export function addDoctor(program: Command): void {
  withStoreOptions(program.command('doctor'))
    .summary('check the usual causes of problems and say how to fix them')
    .description(
      'Checks the address, the key, the clock, WebSockets, whether a proxy buffers event streams, the nodes of a cluster and their etcd, the policy, ' +
        'the disk space and the open-file limit. Exits with code 1 if it finds a problem.',
    )
    .option('--data <directory>', 'also check a data directory on this machine')
    .option('--json', 'print each finding as a line of JSON')
    .addHelpText(
      'after',
      '\nExamples:\n  uproar doctor\n  uproar doctor --url https://tower.example --key "$UPROAR_KEY"\n  uproar doctor --data ./uproar-data --json',
    )
    .action(doctor);
}

async function doctor(options: Options): Promise<void> {
  const findings: Finding[] = [];
  const report = (finding: Finding) => {
    findings.push(finding);
    if (options.json) printJson(finding);
    else print(finding);
  };
  report(nodeHere());
  if (options.data !== undefined) for (const finding of dataHere(resolve(options.data))) report(finding);
  const target = targetOf(options);
  let store: Store | undefined;
  try {
    store = connectTo(target, 'doctor');
    for await (const finding of examine(store, target)) report(finding);
  } catch (error) {
    if (!(error instanceof TypeError)) throw error;
    const mend = 'An address looks like http://127.0.0.1:4680.';
    report({ about: 'address', state: 'bad', detail: `"${target.url}" is not the address of a store.`, mend });
  } finally {
    store?.close();
  }
  const bad = findings.filter(({ state }) => state === 'bad').length;
  const warnings = findings.filter(({ state }) => state === 'warning').length;
  if (bad > 0) process.exitCode = EXIT.failed;
  if (options.json) return;
  const sum = bad > 0 ? pc.red(`${bad} ${bad === 1 ? 'error' : 'errors'}`) : pc.green('no problems found');
  process.stdout.write(
    `\n${sum}${warnings > 0 ? `, ${pc.yellow(`${warnings} ${warnings === 1 ? 'warning' : 'warnings'}`)}` : ''}\n`,
  );
}

const MARKS = { good: pc.green('✓'), warning: pc.yellow('!'), bad: pc.red('✗'), unknown: pc.dim('?') };

function print({ about, state, detail, mend }: Finding): void {
  process.stdout.write(`${MARKS[state]} ${about.padEnd(10)} ${detail}\n`);
  if (mend) process.stdout.write(`  ${''.padEnd(10)} ${pc.cyan('→')} ${mend}\n`);
}

function nodeHere(): Finding {
  const [major] = process.versions.node.split('.').map(Number);
  const detail = `uproar ${VERSION} on Node.js ${process.versions.node}`;
  if (major! >= 20) return { about: 'here', state: 'good', detail };
  return { about: 'here', state: 'bad', detail, mend: 'Install Node.js 20 or newer.' };
}

/** The data directory of a store on this machine. */
function dataHere(directory: string): Finding[] {
  const about = 'data';
  if (!existsSync(directory)) {
    return [
      { about, state: 'bad', detail: `${directory} does not exist.`, mend: 'Create it with: uproar serve --data DIR' },
    ];
  }
  const findings: Finding[] = [];
  try {
    accessSync(directory, constants.R_OK | constants.W_OK);
    findings.push({ about, state: 'good', detail: `${directory} can be read and written` });
  } catch {
    const mend = `Run the store as the user it belongs to: chown -R USER ${directory}`;
    findings.push({ about, state: 'bad', detail: `${directory} cannot be written.`, mend });
  }
  if ((statSync(directory).mode & 0o077) !== 0) {
    const mend = `chmod 700 ${directory}`;
    findings.push({ about, state: 'warning', detail: 'Other users of this machine can read it.', mend });
  }
  const { bavail, blocks, bsize } = statfsSync(directory);
  findings.push(disk(about, bavail * bsize, blocks * bsize));
  return findings;
}

function disk(about: string, freeBytes: number, bytes: number): Finding {
  const detail = `${formatBytes(freeBytes)} of ${formatBytes(bytes)} free on the disk`;
  const short = freeBytes < LEAST_FREE_BYTES || freeBytes < bytes * LEAST_FREE_PART;
  if (!short) return { about, state: 'good', detail };
  return { about, state: freeBytes < LEAST_FREE_BYTES / 10 ? 'bad' : 'warning', detail, mend: MAKE_ROOM };
}

const STEP_MENDS = {
  address: 'Is the store running, and is the address right? Give it with --url, UPROAR_URL or a profile.',
  key: 'Give the key with --key or UPROAR_KEY. The first start of the store printed it; "uproar key create" makes others.',
  live: 'Have the proxy pass the headers Upgrade and Connection on (HTTP/1.1), and keep idle connections for a minute.',
  clock: 'Have both machines set their clocks by NTP: timedatectl set-ntp true',
};

async function* examine(store: Store, target: Target): AsyncGenerator<Finding> {
  const from = target.urlFrom === 'default' ? '' : ` (from ${target.urlFrom})`;
  for (const { step, ok, detail } of await store.check()) {
    const text =
      step === 'address' ? `${detail}${from}` : step === 'key' && ok ? `${detail}${keyFrom(target)}` : detail;
    const withoutSocket = step === 'live' && ok && /no WebSocket/.test(detail);
    const state = ok ? (withoutSocket ? 'warning' : 'good') : 'bad';
    yield { about: step, state, detail: text, ...(ok && !withoutSocket ? {} : { mend: STEP_MENDS[step] }) };
    // Without a WebSocket devices do with requests and event streams, so the rest is worth looking at.
    if (!ok && (step === 'address' || step === 'key')) return;
  }
  const server = store.state.name === 'online' ? store.state.server : undefined;
  if (server && server.serverVersion !== VERSION) {
    const detail = `the store runs ${server.serverVersion}, this command is ${VERSION}`;
    yield { about: 'version', state: 'warning', detail, mend: 'Bring both to the same version.' };
  }
  yield await stream(store);
  if (server?.node !== undefined) yield* cluster(store);
  yield* policy(store, server?.openUntil);
  yield* hooks(store);
  yield* erasures(store);
  yield* machine(store);
}

function keyFrom({ keyFrom: from }: Target): string {
  return from === 'default' ? '' : ` (from ${from})`;
}

/** Checks that the first event of a stream arrives at once, and that no proxy buffers it. */
async function stream(store: Store): Promise<Finding> {
  const about = 'streams';
  const stop = new AbortController();
  const timer = setTimeout(() => stop.abort(), STREAM_WITHIN_MS);
  const started = performance.now();
  try {
    let text = '';
    // A collection that does not exist: its first event is small, so a buffering proxy holds it back.
    for await (const piece of store.stream(
      '/v1/data/doctor-looks?limit=1',
      undefined,
      'text/event-stream',
      stop.signal,
    )) {
      text += piece;
      if (text.includes('event: result')) break;
    }
    const elapsedMs = Math.round(performance.now() - started);
    return { about, state: 'good', detail: `event streams arrive without delay (${elapsedMs} ms)` };
  } catch (error) {
    if (error instanceof ProblemError) return { about, state: 'unknown', detail: error.problem.detail };
    const detail = `The first event of a stream has not come within ${STREAM_WITHIN_MS / 1000} s: something on the way collects answers before it passes them on.`;
    return {
      about,
      state: 'bad',
      detail,
      mend: 'Disable buffering and compression of text/event-stream in the proxy.',
    };
  } finally {
    clearTimeout(timer);
    stop.abort();
  }
}

/** Looks at the nodes of a cluster. */
async function* cluster(store: Store): AsyncGenerator<Finding> {
  const about = 'cluster';
  let state: ClusterState;
  try {
    state = await store.fetch<ClusterState>('/v1/cluster');
  } catch (error) {
    if (!(error instanceof ProblemError)) throw error;
    yield { about, state: 'unknown', detail: 'Only a key with the scope admin may look at the nodes.' };
    return;
  }
  const { nodes, halted, staleSince } = state;
  if (halted !== undefined) {
    const mend = 'Stop this node and start it with an empty data directory; it copies the store of another one.';
    yield { about, state: 'bad', detail: `This node has stopped: ${halted}`, mend };
  }
  if (staleSince !== undefined) {
    const detail = `etcd has not answered for ${formatDuration(Date.now() - Date.parse(staleSince))}: nothing can be written.`;
    yield { about, state: 'bad', detail, mend: 'Start the members of etcd; most of them must run.' };
  }
  if (nodes.length < 2) {
    const mend = 'Start another one: uproar serve --data DIRECTORY --cluster URLS';
    yield { about, state: 'warning', detail: 'Only one node is running.', mend };
  } else yield { about, state: 'good', detail: `${nodes.length} nodes are running` };
  for (const node of nodes) {
    if (node.differs) {
      const mend = 'Stop it and start it with an empty data directory.';
      yield { about, state: 'bad', detail: `The data of ${node.address} differs.`, mend };
    }
    const offMs = Math.abs(node.clockDifferenceMs);
    if (offMs > CLOCK_DIFFERENCE_MS) {
      const detail = `The clock of ${node.address} is off by ${formatDuration(offMs)}.`;
      yield { about, state: 'warning', detail, mend: STEP_MENDS.clock };
    }
    if (node.lag > MOST_LAG) {
      const detail = `${node.address} is ${node.lag} entries behind.`;
      yield { about, state: 'warning', detail, mend: 'Look at its disk and its load: uproar doctor on that machine.' };
    }
  }
  for (const { address, storage } of nodes) {
    if (storage === undefined) continue;
    yield { about, state: 'bad', detail: `${address} cannot write to its disk: ${storage}.`, mend: MAKE_ROOM };
  }
  yield* etcd(store, state);
  const versions = [...new Set(nodes.map(({ version }) => version))];
  if (versions.length > 1) {
    const detail = `The nodes run different versions: ${versions.join(', ')}.`;
    yield { about, state: 'warning', detail, mend: 'Upgrade all of them to the same version.' };
  }
}

/** A write to etcd that takes longer than this is reported, in milliseconds. */
const SLOW_ENTRY_MS = 500;
/** etcd stops taking writes at a quota of 2 GB, by default. */
const LARGE_ETCD_BYTES = 1_600_000_000;

const ALARMS = {
  'no-space': {
    detail: 'is out of space, so nothing can be written',
    mend: 'Run etcdctl defrag, then etcdctl alarm disarm, and raise --quota-backend-bytes.',
  },
  corrupt: {
    detail: 'has damaged data',
    mend: 'Remove the member from etcd and add it again with an empty directory: etcdctl member remove, member add.',
  },
};

/** Looks at the members of etcd: quorum, space, speed, and the size of requests. */
async function* etcd(store: Store, { etcd: members }: ClusterState): AsyncGenerator<Finding> {
  const about = 'etcd';
  const answering = members.filter(({ answers, hasLeader }) => answers && hasLeader);
  for (const { address, answers, alarms, sizeBytes = 0 } of members) {
    if (!answers) {
      const mend = 'Start it again, with the data that it has.';
      yield { about, state: 'warning', detail: `The member at ${address} does not answer.`, mend };
    }
    for (const alarm of alarms) {
      yield { about, state: 'bad', detail: `${address} ${ALARMS[alarm].detail}.`, mend: ALARMS[alarm].mend };
    }
    if (sizeBytes > LARGE_ETCD_BYTES) {
      const mend = 'Run etcdctl defrag on it, or raise --quota-backend-bytes (2 GB by default).';
      yield { about, state: 'warning', detail: `${address} has ${formatBytes(sizeBytes)} of data.`, mend };
    }
  }
  if (members.length < 3) {
    const mend = 'Three members on three machines keep the log if one is lost.';
    yield { about, state: 'warning', detail: `etcd has ${countOf(members.length, 'member')}.`, mend };
  }
  if (answering.length <= members.length / 2) {
    const detail = `Only ${answering.length} of ${countOf(members.length, 'member')} can work: nothing can be written.`;
    yield { about, state: 'bad', detail, mend: 'Start the members of etcd; most of them must run.' };
    return;
  }
  const { taken, tookMs = 0, reason } = await store.post<EtcdTrial>('/v1/cluster/trial', {});
  if (!taken) {
    const mend = 'Start its members with --max-request-bytes 1572864 or more, and check their disks.';
    yield { about, state: 'bad', detail: `etcd did not take the largest entry: ${reason}`, mend };
  } else if (tookMs > SLOW_ENTRY_MS) {
    const mend = 'Give its members fast disks of their own; every write waits for them.';
    yield { about, state: 'warning', detail: `etcd takes ${tookMs} ms for the largest entry.`, mend };
  } else {
    const detail = `${answering.length} of ${countOf(members.length, 'member')} answer; the largest entry takes ${tookMs} ms`;
    yield { about, state: 'good', detail };
  }
}

async function* policy(store: Store, openUntil: string | undefined): AsyncGenerator<Finding> {
  const about = 'policy';
  if (openUntil !== undefined) {
    const left = formatDuration(Date.parse(openUntil) - Date.now());
    yield {
      about,
      state: 'warning',
      detail: `The store is open to everyone for another ${left}.`,
      mend: 'Set a policy before that ends: uproar policy set policy.yaml',
    };
  }
  try {
    const { version, text } = await store.fetch<PolicyVersion>('/v1/policy');
    if (version === 0) {
      const mend = 'uproar policy set policy.yaml lets others in; uproar policy try shows what it does.';
      yield { about, state: 'warning', detail: 'No policy is set, so only keys have access.', mend };
      return;
    }
    const answer = await store.request('PUT', '/v1/policy', { text, dryRun: true });
    const { warnings } = (await answer.json()) as PolicyAnswer;
    yield { about, state: 'good', detail: `version ${version} is in force` };
    for (const { pointer, message } of warnings) {
      yield {
        about,
        state: 'warning',
        detail: `${pointer}: ${message}`,
        mend: 'uproar policy show, then uproar policy set',
      };
    }
  } catch (error) {
    yield notTold(about, error);
  }
}

async function* hooks(store: Store): AsyncGenerator<Finding> {
  const about = 'hooks';
  try {
    const { hooks: found } = await store.fetch<{ hooks: HookInfo[] }>('/v1/hooks');
    for (const { name, paused, failing, missed } of found) {
      const mend = `uproar hook deliveries "${name}" --failed shows the answers; then uproar hook resume "${name}".`;
      if (paused) yield { about, state: 'warning', detail: `"${name}" is paused: ${paused.reason}`, mend };
      else if (failing) {
        const forMs = Date.now() - Date.parse(failing.since);
        const of = countOf(failing.documents, 'document');
        const detail = `Deliveries of "${name}" have failed for ${formatDuration(forMs)}, of ${of}.`;
        yield { about, state: 'warning', detail, mend: `uproar hook deliveries "${name}" --failed shows the answers.` };
      }
      if (missed) {
        const detail = `The journal lost the changes from seq ${missed.after + 1} to ${missed.upTo} before "${name}" had them.`;
        yield { about, state: 'warning', detail, mend: 'Keep more of the journal: serve --journal-age, --hook-hold.' };
      }
    }
    if (found.length > 0 && found.every(({ paused, failing }) => !paused && !failing)) {
      yield { about, state: 'good', detail: `${countOf(found.length, 'hook')}, none of which fails` };
    }
  } catch (error) {
    yield notTold(about, error);
  }
}

/** Checks that erasures have reached the files of all nodes. */
async function* erasures(store: Store): AsyncGenerator<Finding> {
  const about = 'erasures';
  try {
    const { erasures: found } = await store.fetch<{ erasures: Erasure[] }>('/v1/erasures');
    for (const { id, time, state, waiting, problem } of found) {
      const isFresh = problem === undefined && Date.now() - Date.parse(time) < ERASED_WITHIN_MS;
      if (state === 'done' || isFresh) continue;
      const detail = `The erasure ${id} has not reached the files of ${waiting.join(', ') || 'all nodes'}. ${problem ?? ''}`;
      yield {
        about,
        state: 'warning',
        detail: detail.trim(),
        mend: 'Start these nodes, and give them free disk space.',
      };
    }
  } catch (error) {
    yield notTold(about, error);
  }
}

async function* machine(store: Store): AsyncGenerator<Finding> {
  try {
    const now = new Date(Date.now() - 5000).toISOString();
    const { machine: found, connectionLimit } = await store.fetch<MetricsReport>(`/v1/metrics/samples?after=${now}`);
    if (!found) throw new Error('This version of the store does not report it.');
    yield disk('disk', found.diskFreeBytes, found.diskBytes);
    const { openFiles, openFilesLimit } = found;
    if (openFilesLimit === null) {
      yield { about: 'files', state: 'unknown', detail: `${found.platform} does not report the open-file limit` };
      return;
    }
    const detail = `${openFiles} of ${openFilesLimit} open; the store takes up to ${connectionLimit} connections`;
    const enough = openFilesLimit >= connectionLimit + SPARE_FILES;
    const mend = `Raise the limit (ulimit -n ${connectionLimit + 1000}, or LimitNOFILE= of the unit), or lower serve --connections.`;
    yield { about: 'files', state: enough ? 'good' : 'warning', detail, ...(enough ? {} : { mend }) };
  } catch (error) {
    yield notTold('machine', error);
  }
}

function notTold(about: string, error: unknown): Finding {
  const detail =
    error instanceof ProblemError && error.problem.status === 403
      ? 'This check needs an admin key.'
      : String((error as Error).message);
  return { about, state: 'unknown', detail };
}
