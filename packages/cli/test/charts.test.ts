import { expect } from 'chai';
import { stripVTControlCharacters } from 'node:util';
import stringWidth from 'string-width';
import { CommandBench } from '../../../test/command-run.js';
import { PseudoTerminal } from '../../../test/pseudo-terminal.js';
import { KEY, until } from '../../../test/service.js';
import { barChart } from '../src/output/bar-chart.js';
import { NumberCourses, sparkline } from '../src/output/sparkline.js';

describe('drawings in the terminal', () => {
  const bench = new CommandBench();

  it('show the course of numbers between the lowest and the highest', () => {
    expect(sparkline([0, 1, 2, 3, 4, 5, 6, 7])).to.equal('▁▂▃▄▅▆▇█');
    expect(sparkline([-10, 10, 0])).to.equal('▁█▄');
    expect(sparkline([5, 5])).to.equal('▄▄');
  });

  it('follow the numbers of documents, and know which field moves most', () => {
    const courses = new NumberCourses();
    courses.note('a', { altitude: 1, fuel: 9, name: 'Amber' });
    expect(courses.liveliest('altitude')).to.equal(undefined);
    expect(courses.lineOf('a', 'altitude')).to.equal('');
    for (const altitude of [2, 2, 3]) courses.note('a', { altitude, fuel: 9 });
    courses.note('a', { altitude: 3, fuel: 8 });
    expect(courses.liveliest()).to.equal('altitude');
    expect(courses.liveliest('fuel')).to.equal('fuel');
    expect(courses.liveliest('name')).to.equal('altitude');
    expect(courses.lineOf('a', 'altitude')).to.equal('▁▄█');
    for (let n = 0; n < 50; n++) courses.note('a', { altitude: n });
    expect(courses.lineOf('a', 'altitude')).to.have.length(20);
    courses.forget('a', { altitude: 49 });
    expect(courses.lineOf('a', 'altitude')).to.equal('');
  });

  it('are bars that fit the width, also with long names and negative numbers', () => {
    const bars = [
      { label: 'Emerald Icicle of the far valley beyond', value: 2000 },
      { label: 'Ünïcode 🎈', value: -500 },
      { label: 'none', value: 0 },
    ];
    for (const width of [40, 80]) {
      const lines = barChart(bars, width).map(stripVTControlCharacters);
      for (const line of lines) expect(stringWidth(line), line).to.be.at.most(width);
      expect(lines[0]).to.include('2,000').and.include('…');
      const count = (line: string) => line.split('█').length - 1;
      expect(count(lines[1]!)).to.be.closeTo(count(lines[0]!) / 4, 1);
      expect(count(lines[2]!)).to.equal(0);
    }
  });

  it('come with query --chart: of totals, of the order, or of the field that is named', async () => {
    const { run } = bench;
    const balloons = bench.service.client().collection('balloons');
    for (const [n, status] of ['aloft', 'aloft', 'landed'].entries()) {
      await balloons.put(`bl-${n}`, { name: `Balloon ${n}`, status, altitude: 100 * n });
    }
    const totals = await run(['query', 'balloons', '--summary', 'count()', '--by', 'status', '--chart']);
    expect(totals.out).to.match(/^count\(\)\naloft +2 {2}█+\nlanded +1 {2}█+/);
    const ordered = await run(['query', 'balloons', '--order', '-altitude', '--chart']);
    expect(ordered.out).to.match(/^altitude\nbl-2 Balloon 2 +200 {2}█+\nbl-1 Balloon 1 +100 {2}█+/);
    const wrong = await run(['query', 'balloons', '--chart', 'status']);
    expect(wrong.code).to.equal(2);
    expect(wrong.err).to.include('status has none').and.include('There are altitude.');
  });

  it('show in a watch how a number has moved', async () => {
    const gates = bench.service.client().collection('gates');
    await gates.put('g-1', { name: 'North gate', visitors: 1 });
    await gates.put('g-2', { name: 'River gate', visitors: 1 });
    const tty = new PseudoTerminal(['watch', 'gates'], { UPROAR_URL: bench.service.url, UPROAR_KEY: KEY }, [90, 20]);
    try {
      await until('the table is drawn', () => tty.screen.includes('North gate') && tty.screen.includes('● live'));
      // Changes that follow at once may arrive as one.
      for (const visitors of [4, 8]) {
        await gates.merge('g-1', { visitors });
        await until('the number is drawn', () => new RegExp(`North gate +${visitors}\\b`).test(tty.screen));
      }
      await until('its course is drawn', () => /g-1 .*North gate +8 +▁▄█/.test(tty.screen));
      expect(tty.screen).to.include('visitors ~');
      expect(tty.screen).to.match(/g-2 .*River gate +1 *\n/);
    } finally {
      tty.kill();
    }
  });
});
