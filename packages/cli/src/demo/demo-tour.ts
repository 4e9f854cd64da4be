import { existsSync } from 'node:fs';
import { fileURLToPath } from 'node:url';
import { connect } from '@uproar/client';
import { PASSWORD, PEOPLE } from '@uproar/demo';
import pc from 'picocolors';
import type { DemoNode } from './demo-cluster.js';

/** One step of the tour: what it shows, what to type, and where to look. */
interface Step {
  title: string;
  about: string;
  commands: string[];
  look: string;
}

/** The pad that two crews want. The simulated crews leave it alone. */
const PAD = 'pads/p-12';

/**
 * What to try in the demo, step by step, for a second terminal and the console.
 *
 * @param addresses those of the nodes, the first one first
 * @param directory where the data stays; undefined when nothing does
 */
export async function describeTour(
  addresses: readonly string[],
  key: string,
  directory: string | undefined,
  others: readonly DemoNode[] = [],
): Promise<string> {
  const address = addresses[0]!;
  const store = connect(address, { token: key });
  const pad = await store.collection('pads').get(PAD.split('/')[1]!);
  store.close();
  const steps = [
    ...(others.length > 0 ? [clusterStep(address, key, others)] : []),
    ...stepsOf(address, key, pad?.version ?? 0),
  ];
  const inCheckout = existsSync(fileURLToPath(new URL('../../../../scripts/demo.mjs', import.meta.url)));
  const lines = [
    '',
    `${pc.bold('The festival has started.')} A store with made-up balloons, crews, pads, flights, stations, notices, gates and areas`,
    'is running, and simulated devices write to it.',
    '',
    `  console   ${pc.cyan(`${address}/console/#key=${key}`)}`,
    `  a board   ${pc.cyan(`${address}/board/`)}`,
    `  a phone   ${pc.cyan(`${address}/field/#key=${key}&balloon=bl-17`)}`,
    `  docs      ${pc.cyan(`${address}/docs/`)}`,
    '',
    pc.dim('A short tour. In a second terminal, here:'),
    '',
    `     export UPROAR_URL=${addresses.join(',')} UPROAR_KEY=${key}`,
    ...(inCheckout ? ['     alias uproar="npm run -s uproar --"'] : []),
    '',
    ...steps.flatMap(({ title, about, commands, look }, place) => [
      `  ${pc.bold(`${place + 1}  ${title}`)}  ${pc.dim(about)}`,
      ...commands.map((command) => `     ${command}`),
      ...(look === '' ? [] : [pc.dim(`     ${look}`)]),
      '',
    ]),
    pc.dim(`${PEOPLE.map(({ name }) => name).join(' and ')} have accounts, password ${PASSWORD}.`),
    pc.dim(
      directory === undefined
        ? 'Ctrl-C stops the demo and removes its data.'
        : `Ctrl-C stops the demo; the data stays in ${directory}.`,
    ),
    '',
  ];
  return lines.join('\n');
}

/** What to try with several nodes. */
function clusterStep(address: string, key: string, others: readonly DemoNode[]): Step {
  const last = others.at(-1)!;
  return {
    title: 'Lose a node',
    about: 'the others go on; nothing is lost; the lost one catches up when it comes back',
    commands: [
      'uproar cluster',
      `kill -9 ${last.pid}`,
      `uproar put notes/away '{"text":"written while a node was away"}'`,
      'uproar cluster',
      `${last.command} &`,
      `sleep 10; uproar get notes/away --url ${last.address}`,
    ],
    look: `The console goes on meanwhile: ${address}/console/data/balloons#key=${key}`,
  };
}

function stepsOf(address: string, key: string, padVersion: number): Step[] {
  return [
    {
      title: 'Edit and see',
      about: 'what you write shows on every screen at once',
      commands: [`uproar merge balloons/bl-17 '{"altitude":777}'`, 'uproar watch balloons/bl-17'],
      look: `And in the console: ${address}/console/data/balloons/bl-17#key=${key}`,
    },
    {
      title: 'The same pad, claimed twice',
      about: 'both crews saw the pad free; one of them gets it, the other gets a conflict',
      commands: ['c-1', 'c-2'].map(
        (crew) => `uproar merge ${PAD} '{"claimedBy":"${crew}"}' --if-version ${padVersion}`,
      ),
      look: '',
    },
    {
      title: 'A truck in the valley',
      about: 'trucks lose their connection and get what they missed when they reconnect',
      commands: ['uproar watch crews --where "truck.online = FALSE" --lines'],
      look: 'Or be the truck: open the phone, press Ctrl-Z in this terminal, write on the phone, and see it arrive after "fg".',
    },
    {
      title: 'Closing the store to strangers',
      about: 'spectators need no key, until the policy says otherwise; version 1 lets them in again',
      commands: [
        `curl "${address}/v1/data/notices?limit=1"`,
        `uproar policy show | sed 's/anonymous: true/anonymous: false/' | uproar policy set /dev/stdin`,
        `curl "${address}/v1/data/notices?limit=1"`,
        'uproar policy revert 1',
      ],
      look: '',
    },
    {
      title: 'A notice that ends by itself',
      about: 'the store deletes it after half a minute, and every screen shows that',
      commands: [
        `uproar put notices/fog '{"title":"From the tower","text":"Fog until nine","severity":"info","audience":"all"}' --ttl 30s`,
        'uproar watch notices/fog',
      ],
      look: '',
    },
    {
      title: 'Who is here',
      about: 'a document that lasts as long as a connection: end the first command, and it goes; trucks do the same',
      commands: [`uproar present online/you '{"crew":"c-1"}' &`, 'uproar query online', 'kill %1'],
      look: `In the console, two windows with the same document name each other: ${address}/console/data/balloons/bl-1#key=${key}`,
    },
    {
      title: 'A server that hears of landings',
      about: 'the radio desk gets each landing over HTTP, by a hook; sometimes it is busy, and hears of it again',
      commands: ['uproar hook', 'uproar hook deliveries landings', 'uproar hook test landings'],
      look: `And in the console: ${address}/console/hooks#key=${key}`,
    },
    {
      title: 'Restoring a deleted document',
      about: 'the journal keeps earlier states',
      commands: ['uproar delete notices/n-007', 'uproar journal notices/n-007', 'uproar revert notices/n-007'],
      look: '',
    },
  ];
}
