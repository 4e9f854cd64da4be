import { existsSync, readFileSync, writeFileSync } from 'node:fs';
import { cpus, totalmem } from 'node:os';
import { fileURLToPath } from 'node:url';
import type { Row } from './harness.js';
import { CURVES, drawSvg } from './plot.js';

/** A run of all benchmarks, as it is kept. */
interface Run {
  version: string;
  date: string;
  machine: string;
  figures: { benchmark: string; what: string; ratio: number; reached: boolean }[];
}

const path = (relative: string) => fileURLToPath(new URL(relative, import.meta.url));
const HISTORY = path('./history.json');
const PAGE = path('../docs/measurements.md');
const PLOT = path('../docs/plots/history.svg');

/** As many runs are kept. */
const MOST_RUNS = 40;

const show = (number: number) => (number >= 100 ? Math.round(number).toLocaleString('en') : number.toPrecision(3));

/** Columns of a row, as texts. */
export function describe({ benchmark, what, ours, bare, unit, ratio, aim, reached }: Row): string[] {
  const verdict = aim === 'stated' ? '' : reached ? 'reached' : 'missed';
  return [benchmark, what, show(ours), show(bare), unit, show(ratio), aim, verdict];
}

export const HEADINGS = ['benchmark', 'what', 'ours', 'bare', 'unit', 'ratio', 'aim', ''];

/** What a figure is called in all runs: what it says without what was measured. */
function nameOf({ what }: Pick<Row, 'what'>): string {
  return what
    .replace(/\([^)]*\)/g, '')
    .replace(/[;:] .*\d.*$/, '')
    .replace(/,? ?\d+ bytes.*$/, '')
    .replace(/; server CPU.*$/, '')
    .replace(/\s+/g, ' ')
    .replace(/ ,/g, ',')
    .trim();
}

/** Keeps a run of all benchmarks, and writes the page with its table and the plot of all runs. */
export async function report(rows: readonly Row[], failed: readonly string[]): Promise<void> {
  const { version } = JSON.parse(readFileSync(path('../packages/cli/package.json'), 'utf8')) as { version: string };
  const machine = `${cpus().length} × ${cpus()[0]?.model ?? 'unknown'}, ${Math.round(totalmem() / 1e9)} GB, Node.js ${process.versions.node}, ${process.platform}`;
  const date = `${new Date().toISOString().slice(0, 16)}Z`;
  const figures = rows.map(({ benchmark, what, ratio, reached }) => ({
    benchmark,
    what: nameOf({ what }),
    ratio: Number(ratio.toPrecision(4)),
    reached,
  }));
  const before = existsSync(HISTORY) ? (JSON.parse(readFileSync(HISTORY, 'utf8')) as Run[]) : [];
  const runs = [...before, { version, date, machine, figures }].slice(-MOST_RUNS);
  writeFileSync(HISTORY, `${JSON.stringify(runs, null, 1)}\n`);
  writeFileSync(PLOT, `${await drawHistory(runs)}\n`);
  writeFileSync(PAGE, page(rows, failed, version, date, machine));
}

function page(rows: readonly Row[], failed: readonly string[], version: string, date: string, machine: string): string {
  const missed = rows.filter(({ aim, reached }) => aim !== 'stated' && !reached).length;
  const aimed = rows.filter(({ aim }) => aim !== 'stated').length;
  const line = (cells: readonly string[]) => `| ${cells.map((cell) => cell.replaceAll('|', '\\|')).join(' | ')} |`;
  return [
    '# Measurements',
    '',
    '`npm run bench` wrote this page. [Benchmarks](benchmarks.md) says what each line measures, and what',
    'it is compared with.',
    '',
    `- version ${version}, ${date}`,
    `- machine: ${machine}`,
    `- ${aimed - missed} of ${aimed} aims reached`,
    ...(failed.length > 0 ? [`- failed: ${failed.join(', ')}`] : []),
    '',
    line(HEADINGS),
    line(HEADINGS.map(() => '---')),
    ...rows.map((row) => line(describe(row))),
    '',
    '## History',
    '',
    'The ratio of each figure in all runs that were kept, on a logarithmic axis. A point is filled where',
    'its aim was reached.',
    '',
    '![The ratio of each figure in each run](plots/history.svg)',
    '',
  ].join('\n');
}

/** Small plots of the ratio of each figure over the runs. */
export function drawHistory(runs: readonly Run[]): Promise<string> {
  const latest = runs.at(-1)!.figures.map(({ benchmark, what }) => titleOf(benchmark, what));
  const values = runs.flatMap(({ version, date, figures }, run) =>
    figures.map(({ benchmark, what, ratio, reached }) => ({
      run: `${run + 1}`,
      at: `${version} ${date}`,
      figure: titleOf(benchmark, what),
      ratio: Math.max(1e-6, ratio),
      reached,
    })),
  );
  return drawSvg({
    data: { values: values.filter(({ figure }) => latest.includes(figure)) },
    facet: {
      field: 'figure',
      type: 'nominal',
      title: null,
      sort: latest,
      header: { labelFontSize: 9, labelLimit: 0, labelExpr: "split(datum.value, '\\n')", labelAnchor: 'start' },
    },
    columns: 3,
    align: 'all',
    spacing: { row: 14, column: 8 },
    spec: {
      width: 170,
      height: 60,
      encoding: {
        x: { field: 'run', type: 'ordinal', title: null, sort: null, axis: { labelAngle: 0 } },
        y: {
          field: 'ratio',
          type: 'quantitative',
          title: null,
          scale: { type: 'log', nice: true },
          axis: { tickCount: 2, grid: false },
        },
      },
      layer: [
        { mark: { type: 'line', color: CURVES[0] } },
        {
          mark: { type: 'point', color: CURVES[0], size: 24 },
          encoding: {
            fill: {
              field: 'reached',
              type: 'nominal',
              scale: { domain: [true, false], range: [CURVES[0]!, 'white'] },
              legend: null,
            },
          },
        },
      ],
    },
    resolve: { scale: { y: 'independent' } },
  });
}

/** The name of a figure in lines that fit over its plot. */
function titleOf(benchmark: string, what: string): string {
  const lines = [''];
  for (const word of `${benchmark}: ${what}`.split(' ')) {
    if (`${lines.at(-1)} ${word}`.length > 36) lines.push('');
    lines[lines.length - 1] = `${lines.at(-1)} ${word}`.trim();
  }
  return lines.length <= 3 ? lines.join('\n') : `${lines.slice(0, 3).join('\n')}…`;
}
