import * as vega from 'vega';
import { compile, type TopLevelSpec } from 'vega-lite';

/** The colours of curves. */
export const CURVES = ['#5a4fcf', '#8f5a00', '#156b3e'];

/** Draws a plot as SVG, on white, so that it can be read on a page of any colour. */
export async function drawSvg(spec: TopLevelSpec): Promise<string> {
  const { spec: drawn } = compile({
    background: 'white',
    ...spec,
    config: { font: 'sans-serif', legend: { orient: 'bottom', labelLimit: 0, columns: 2, symbolType: 'stroke' } },
  } as TopLevelSpec);
  return new vega.View(vega.parse(drawn)).toSVG();
}
