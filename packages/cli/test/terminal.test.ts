import { expect } from 'chai';
import stringWidth from 'string-width';
import { CommandBench } from '../../../test/command-run.js';
import { PseudoTerminal } from '../../../test/pseudo-terminal.js';
import { KEY, until, type TestService } from '../../../test/service.js';

describe('the command line in a terminal', () => {
  const bench = new CommandBench();
  let service: TestService;
  let terminal: PseudoTerminal | undefined;
  before(() => (service = bench.service));
  afterEach(() => terminal?.kill());
  const open = (args: string[], environment: Record<string, string> = {}, size?: [number, number]) =>
    (terminal = new PseudoTerminal(args, { UPROAR_URL: service.url, UPROAR_KEY: KEY, ...environment }, size));
  const codes = ({ raw }: PseudoTerminal) => raw.replaceAll('\x1b', 'ESC');
  const widest = (text: string) => text.split('\n').reduce((most, line) => Math.max(most, stringWidth(line)), 0);

  it('shows a watch as a table that updates in place, highlights changes, and ends on q', async () => {
    const pads = service.client().collection('pads');
    for (let n = 10; n < 40; n++) await pads.put(`p-${n}`, { name: `Pad ${n}`, free: true, note: 'x'.repeat(60) });
    const tty = open(['watch', 'pads'], {}, [70, 20]);
    // The screen shows the output a moment later.
    await until(
      'the first frame is drawn',
      () => /30 documents, seq \d+/.test(tty.screen) && tty.screen.includes('q quits'),
    );
    expect(tty.screen).to.include('● live').and.include('p-10').and.include('q quits').and.include('more rows');
    expect(tty.screen.split('\n')[0], 'a frame fits').to.include('pads  ');
    expect(widest(tty.screen)).to.be.at.most(70);
    await pads.merge('p-11', { free: false });
    await tty.shows(/~ p-11 {2}free true → false/);
    expect(codes(tty), 'the cell is marked').to.match(/ESC\[43m[^\n]*false/);
    await pads.delete('p-10');
    await until('the row is gone', () => /29 documents/.test(tty.screen) && !/\np-10 /.test(tty.screen));
    tty.press(' ');
    await tty.shows('paused');
    await pads.put('p-00', { name: 'Pad 0' });
    await new Promise((resolve) => setTimeout(resolve, 400));
    expect(tty.screen).not.to.include('\np-00');
    tty.press(' ');
    await until('it goes on', () => tty.screen.includes('\np-00'));
    tty.press('\u001b[B\u001b[B');
    await until('it scrolls', () => !tty.screen.includes('\np-00'));
    tty.press('q');
    expect(await tty.ended).to.equal(0);
    expect(tty.raw.lastIndexOf('\x1b[?25h'), 'the cursor is shown again').to.be.above(tty.raw.lastIndexOf('\x1b[?25l'));
  });

  it('shows the fields of one document below each other, and says when the connection is broken', async () => {
    await service.client().collection('gates').put('g-1', { visitors: 3, name: 'North gate' });
    const tty = open(['watch', 'gates/g-1']);
    await tty.shows(/visitors +3/);
    await service.service.close();
    await tty.shows('not connected');
    await service.restart();
    await until('it is live again', () => tty.screen.includes('● live'), 120_000);
    tty.press('\u0003');
    expect(await tty.ended).to.equal(0);
  });

  it('keeps tables within the terminal, cuts the widest columns, and colours only where that is wanted', async () => {
    const notices = service.client().collection('notices');
    await notices.put('n-1', {
      title: 'A title that goes on and on, further than any terminal is wide, and further yet',
    });
    const tty = open(['journal', '--last', '5'], {}, [60, 24]);
    expect(await tty.ended).to.equal(0);
    expect(widest(tty.text)).to.be.at.most(60);
    expect(tty.raw).to.include('\x1b[');
    const devices = open(['devices'], {}, [60, 24]);
    expect(await devices.ended).to.equal(0);
    expect(widest(devices.text)).to.be.at.most(60);
    const plain = open(['status'], { NO_COLOR: '1' });
    expect(await plain.ended).to.equal(0);
    expect(codes(plain)).not.to.match(/ESC\[\d+m/);
    expect((await bench.run(['status'], undefined, { NO_COLOR: '' })).out, 'no terminal, no colour').not.to.include(
      '\x1b[',
    );
  });

  it('shows an import’s progress with rate and remaining time, and ends cleanly on Ctrl-C', async () => {
    const rows = Array.from({ length: 60_000 }, (_, n) => JSON.stringify({ id: `f-${n}`, n, text: 'y'.repeat(120) }));
    const file = bench.file('flights.ndjson', rows.join('\n'));
    const tty = open(['import', 'flights', file], {}, [110, 24]);
    await tty.shows(/\d+% .*of \d+\.\d MB {2}\d+ documents\/s {2}\d+s left/);
    tty.press('\u0003');
    expect(await tty.ended).to.equal(130);
    expect(tty.raw.lastIndexOf('\x1b[?25h')).to.be.above(tty.raw.lastIndexOf('\x1b[?25l'));
    expect(tty.text).not.to.include('Error');
    const outcome = JSON.parse((await bench.run(['import', 'flights', file, '--resume', '--json'])).out) as {
      written: number;
    };
    expect(outcome.written, 'nothing is written twice except the group in flight').to.be.below(62_000);
    const { documents } = (await service.request('GET', '/v1/collections')).json;
    expect(documents.find(({ id }: { id: string }) => id === 'flights').data.documents).to.equal(60_000);
  });
});
