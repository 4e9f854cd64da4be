import cliTruncate from 'cli-truncate';
import pc from 'picocolors';
import stringWidth from 'string-width';

/** A bar: its name and value. */
export interface Bar {
  label: string;
  value: number;
}

const MOST_LABEL = 28;
const FEWEST_CELLS = 10;
/** Eighths of a cell. */
const PARTS = ['', '▏', '▎', '▍', '▌', '▋', '▊', '▉'];

/** Bars as lines that are no wider than `width`. Negative values are drawn from the same left edge, in red. */
export function barChart(bars: readonly Bar[], width: number): string[] {
  const values = bars.map(({ value }) => Number(value.toFixed(3)).toLocaleString('en'));
  const valueWidth = Math.max(...values.map((text) => text.length));
  const room = Math.max(1, width - valueWidth - FEWEST_CELLS - 4);
  const labelWidth = Math.min(MOST_LABEL, room, Math.max(...bars.map(({ label }) => stringWidth(label))));
  const cells = Math.max(1, width - labelWidth - valueWidth - 4);
  const most = Math.max(...bars.map(({ value }) => Math.abs(value)), Number.MIN_VALUE);
  return bars.map(({ label, value }, index) => {
    const cut = cliTruncate(label, labelWidth);
    const eighths = Math.round((Math.abs(value) / most) * cells * 8);
    const bar = '█'.repeat(eighths >> 3) + PARTS[eighths % 8]!;
    const coloured = value < 0 ? pc.red(bar) : pc.cyan(bar);
    const name = cut + ' '.repeat(labelWidth - stringWidth(cut));
    return `${name}  ${values[index]!.padStart(valueWidth)}  ${coloured}`;
  });
}
