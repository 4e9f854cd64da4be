import { setTimeout as sleep } from 'node:timers/promises';
import { HARD_NAMES, HARD_VALUES } from './random-writes.js';
import { ConformanceError, type Trial } from './trial.js';

/** One thing that a program has to do right. */
export interface Check {
  name: string;
  /** What the program has to do. */
  title: string;
  /** True if the program has to send commits, too. */
  writes?: boolean;
  /** Resolves with a text as a remark, if the program does it right but not well. */
  run(trial: Trial): Promise<unknown>;
}

/** A program notices within this time that a link is silent: twice the interval of heartbeats, and some more. */
const SILENCE_NOTICED_MS = 60_000;
/** A program ends within this time when the store refuses it for good. */
const ENDS_WITHIN_MS = 15_000;
/** A program that is refused makes at most so many connections in that time. */
const MOST_ATTEMPTS = 6;
/** So much is written while the link is held: more than the buffers of a connection take. */
const HELD_COMMITS = 300;
const HELD_DOCUMENT_BYTES = 60_000;

/** All checks, in the order in which they are run. */
export const CHECKS: readonly Check[] = [
  {
    name: 'result',
    title: 'shows the documents that are there, and an empty result',
    async run(trial) {
      trial.run();
      await trial.expectState('after the first start');
      await trial.program.stop();
      await trial.write(20);
      trial.run();
      await trial.expectState('after a start with documents');
      trial.expectHistory();
    },
  },
  {
    name: 'changes',
    title: 'follows documents that are added, changed and removed, and fields and items of lists',
    async run(trial) {
      trial.run();
      for (let round = 1; round <= 6; round++) {
        await trial.write(15);
        await trial.expectState(`after round ${round} of writes`);
      }
      trial.expectHistory();
    },
  },
  {
    name: 'values',
    title: 'keeps all values and member names: numbers, escapes, null, empty names, `/` and `~` in pointers',
    async run(trial) {
      const document = 'balloons/b~1';
      trial.run();
      await trial.commit([{ put: document, data: { odd: {}, list: [], status: 'aloft', altitude: 1 } }]);
      for (const name of HARD_NAMES) await trial.commit([{ merge: document, data: { odd: { [name]: 1 } } }]);
      await trial.expectState('after members with unusual names were added');
      for (const name of HARD_NAMES)
        await trial.commit([{ merge: document, data: { odd: { [name]: { [name]: [2] } } } }]);
      await trial.expectState('after members with unusual names were changed');
      for (const value of HARD_VALUES) {
        await trial.commit([{ patch: document, ops: [{ op: 'add', path: '/list/0', value }] }]);
      }
      await trial.expectState('after unusual values were inserted into a list');
      for (const name of HARD_NAMES) await trial.commit([{ merge: document, data: { odd: { [name]: null } } }]);
      await trial.expectState('after members with unusual names were removed');
      trial.expectHistory();
    },
  },
  {
    name: 'pieces',
    title: 'reads events that arrive in pieces of a few bytes, also within a character',
    async run(trial) {
      await trial.write(4);
      trial.link.pieceBytes = 3;
      trial.run();
      await trial.write(12);
      await trial.expectState('after writes');
      trial.expectHistory();
    },
  },
  {
    name: 'cut',
    title: 'connects again when the link is cut, also within an event, and continues without a gap',
    async run(trial) {
      await trial.begin(5);
      const attempts: number[] = [];
      for (let round = 1; round <= 5; round++) {
        trial.link.cutAfterBytes = 40 + 130 * round;
        await trial.write(4);
        trial.link.down = true;
        trial.link.cut();
        await trial.write(4);
        trial.link.down = false;
        const before = trial.link.opened;
        await trial.expectState(`after cut ${round}`);
        attempts.push(trial.link.opened - before);
      }
      trial.expectHistory();
      if (Math.max(...attempts) > MOST_ATTEMPTS) return 'It connects many times in a second. Wait between attempts.';
      return adviceToResume(trial);
    },
  },
  {
    name: 'restart',
    title: 'connects again after the store was restarted',
    async run(trial) {
      await trial.begin(5);
      for (const [round, downMs] of [200, 2500].entries()) {
        await trial.restart(downMs);
        await trial.write(5);
        await trial.expectState(`after restart ${round + 1}`);
      }
      trial.expectHistory();
      return adviceToResume(trial);
    },
  },
  {
    name: 'killed',
    title: 'is right after it was killed and started again, with whatever it keeps on disk',
    async run(trial) {
      trial.run();
      for (let round = 1; round <= 3; round++) {
        await trial.write(6);
        await trial.expectState(`before kill ${round}`);
        await trial.write(3);
        await trial.program.stop('SIGKILL');
        await trial.write(3);
        trial.run();
        await trial.expectState(`after kill ${round}`);
        trial.expectHistory();
      }
    },
  },
  {
    name: 'reset',
    title: 'discards its copy when the store sends a reset: after a change of the policy, or when it was away too long',
    async run(trial) {
      await trial.begin(20);
      await trial.setPolicy("status IN ('aloft', 'landed')");
      await trial.expectState('after the policy concealed some documents');
      await trial.write(8);
      await trial.setPolicy('true');
      await trial.expectState('after the policy showed them again');
      trial.link.down = true;
      trial.link.cut();
      await trial.write(6);
      await trial.commit([{ put: 'balloons/gone', data: { status: 'aloft', altitude: 5000 } }]);
      await trial.request('POST', '/v1/erasures', { doc: 'balloons/gone' });
      await trial.note();
      trial.link.down = false;
      await trial.expectState('after documents were erased while it was away');
      trial.expectHistory();
    },
  },
  {
    name: 'slow',
    title: 'is right after the store merged many changes into one, because nothing was read for a while',
    async run(trial) {
      await trial.begin(10);
      trial.link.held = true;
      const note = (n: number) => `${n} `.repeat(HELD_DOCUMENT_BYTES / (String(n).length + 1));
      for (let n = 0; n < HELD_COMMITS; n++) {
        await trial.commit([{ put: `balloons/bl-${n % 3}`, data: { status: 'aloft', altitude: n, note: note(n) } }]);
      }
      trial.link.held = false;
      await trial.expectState('after the link was released', 2 * trial.options.timeoutMs);
      trial.expectHistory();
    },
  },
  {
    name: 'busy',
    title: 'waits and tries again when the store answers 503 or 429',
    async run(trial) {
      await trial.write(5);
      const problem = (status: number, title: string, name: string) => {
        const body = JSON.stringify({ type: `/problems/${name}`, title, status, detail: 'Try again later.' });
        return `HTTP/1.1 ${status} ${title}\r\nContent-Type: application/problem+json\r\nRetry-After: 1\r\nContent-Length: ${Buffer.byteLength(body)}\r\nConnection: close\r\n\r\n${body}`;
      };
      trial.link.standIn = { response: problem(503, 'Service Unavailable', 'overloaded'), times: 2 };
      trial.run();
      await trial.expectState('after two answers with status 503');
      trial.link.standIn = { response: problem(429, 'Too Many Requests', 'too-many-requests'), times: 2 };
      trial.link.cut();
      await trial.write(5);
      await trial.expectState('after two answers with status 429');
      trial.expectHistory();
    },
  },
  {
    name: 'refused',
    title: 'ends, or stops asking, when it may not read any more; and with a token that is not accepted',
    async run(trial) {
      await trial.begin(5);
      const before = trial.link.opened;
      await trial.setPolicy('false');
      await expectEnd(trial, before, 'after the policy took its access away');
      await trial.setPolicy('true');
      await trial.program.stop();
      const opened = trial.link.opened;
      trial.run('not-a-token');
      await expectEnd(trial, opened, 'with a token that is not accepted');
      if (trial.program.states.length > 0) throw new ConformanceError('It printed a state without access.');
      if (trial.program.ended === undefined) return 'It does not end when it is refused. End with an error.';
      if (trial.program.ended === 0) return 'It ends with exit code 0 when it is refused. Use another one.';
      return trial.program.stderr.trim() === ''
        ? 'It ends without saying why. Write the problem to standard error.'
        : undefined;
    },
  },
  {
    name: 'silence',
    title: 'notices a link on which nothing arrives any more, although heartbeats should',
    async run(trial) {
      await trial.begin(5);
      trial.link.silence();
      await trial.write(5);
      await trial.expectState('after the link fell silent', SILENCE_NOTICED_MS);
      trial.expectHistory();
    },
  },
  {
    name: 'commits',
    title: 'sends each commit until it is answered, with the same id, so that it is applied exactly once',
    writes: true,
    async run(trial) {
      trial.run();
      await trial.expectState('at the start');
      await trial.request('PUT', '/v1/data/tallies/t-1', { n: 0 });
      for (let n = 1; n <= 12; n++) {
        trial.link.loseAnswers = n % 4 === 1;
        trial.link.down = n % 4 === 3;
        trial.program.tell(adjustment(`c-${n}`));
        await sleep(700);
        trial.link.loseAnswers = trial.link.down = false;
      }
      await expectTally(trial, 12, 'after 12 commits, some of them over a failing link');
      const wrong = { id: 'c-refused', writes: [{ put: 'tallies/t-1', data: { n: 500 }, ifVersion: 1 }] };
      trial.program.tell(wrong);
      trial.program.tell(adjustment('c-13'));
      await expectTally(trial, 13, 'after a commit that the store refuses, and one more');
      if (trial.program.ended !== undefined) throw new ConformanceError('It ended after a commit was refused.');
    },
  },
];

function adjustment(id: string): object {
  return { id, writes: [{ adjust: 'tallies/t-1', by: { '/n': { add: 1 } } }] };
}

async function expectTally(trial: Trial, expected: number, when: string): Promise<void> {
  const read = async () => ((await trial.request('GET', '/v1/data/tallies/t-1')) as { data: { n: number } }).data.n;
  const end = Date.now() + trial.options.timeoutMs;
  while ((await read()) < expected && Date.now() < end) await sleep(50);
  // A commit that is sent once too often arrives within this time.
  await sleep(1500);
  const found = await read();
  if (found !== expected) throw new ConformanceError(`The tally is ${found} instead of ${expected} ${when}.`);
}

async function expectEnd(trial: Trial, openedBefore: number, when: string): Promise<void> {
  const end = Date.now() + ENDS_WITHIN_MS;
  const attempts = () => trial.link.opened - openedBefore;
  while (trial.program.ended === undefined && Date.now() < end && attempts() <= MOST_ATTEMPTS) {
    await sleep(50);
  }
  if (attempts() > MOST_ATTEMPTS) {
    throw new ConformanceError(`It made ${attempts()} connections ${when}. The problem is final; end, and say why.`);
  }
}

/** A remark if the latest connection with a watch did not resume it. */
function adviceToResume(trial: Trial): string | undefined {
  const last = trial.link.recordings.filter(({ watches }) => watches).at(-1);
  if (!last || last.resumes) return undefined;
  return 'It reads everything again when it connects again. Send the last resume point instead.';
}
