import type { Document } from '@uproar/client';
import { formatCell, valueAt, type Field } from '../table/fields';

/** Colours that can be distinguished from each other, on a light and on a dark background. */
const LIGHT = ['#5a4fcf', '#c2571a', '#1f8a5b', '#b3367f', '#8a6d00', '#1787a8', '#7a4a2b', '#d23b3b'];
const DARK = ['#a59df5', '#f0975c', '#55c68a', '#ee86bf', '#d9bb3f', '#5cc4e3', '#c99c7a', '#ff8a80'];
const OTHERS = { light: '#6d7385', dark: '#a9b0bd' };
/** For numbers, from low to high. */
const LIGHT_STEPS = ['#8fb3e8', '#7a93e0', '#6a71d3', '#7d47b8', '#8f1f86'];
const DARK_STEPS = ['#3f68a8', '#5f86d8', '#8d9cf0', '#c0a2f2', '#f2b3ec'];

/** The colour of the n-th line or group. */
export function colourAt(index: number, dark: boolean): string {
  const colours = dark ? DARK : LIGHT;
  return colours[index % colours.length]!;
}

/** An entry of a legend. */
export interface LegendEntry {
  label: string;
  colour: string;
}

/** A colour for each document, by the value of a field: steps for numbers, otherwise one for each of the first values. */
export interface ColourScale {
  /** The place of a document's colour among {@link colours}. */
  indexOf(document: Document): number;
  readonly colours: readonly string[];
  readonly legend: readonly LegendEntry[];
}

/** The scale of a field for what is shown. Values keep the colours that the previous scale gave them. */
export function scaleOf(
  field: Field | undefined,
  documents: readonly Document[],
  dark: boolean,
  known: readonly string[] = [],
): ColourScale & { values: readonly string[] } {
  if (!field) {
    const colours = [colourAt(0, dark)];
    return { indexOf: () => 0, colours, legend: [], values: [] };
  }
  return field.numeric ? numberScale(field, documents, dark) : valueScale(field, documents, dark, known);
}

function numberScale(
  { path }: Field,
  documents: readonly Document[],
  dark: boolean,
): ColourScale & { values: string[] } {
  let [low, high] = [Infinity, -Infinity];
  for (const { data } of documents) {
    const value = valueAt(data, path);
    if (typeof value !== 'number') continue;
    low = Math.min(low, value);
    high = Math.max(high, value);
  }
  const steps = dark ? DARK_STEPS : LIGHT_STEPS;
  const others = dark ? OTHERS.dark : OTHERS.light;
  const width = (high - low) / steps.length;
  const legend =
    low > high
      ? []
      : steps
          .map((colour, index) => ({ colour, label: shorten(low + index * width) }))
          .slice(0, width > 0 ? undefined : 1);
  return {
    colours: [...steps, others],
    legend,
    values: [],
    indexOf: ({ data }) => {
      const value = valueAt(data, path);
      if (typeof value !== 'number') return steps.length;
      return width > 0 ? Math.max(0, Math.min(steps.length - 1, Math.floor((value - low) / width))) : 0;
    },
  };
}

function valueScale(
  { path }: Field,
  documents: readonly Document[],
  dark: boolean,
  known: readonly string[],
): ColourScale & { values: string[] } {
  const colours = dark ? DARK : LIGHT;
  const values = [...known];
  for (const { data } of documents) {
    if (values.length === colours.length) break;
    const text = formatCell(valueAt(data, path));
    if (text !== '' && !values.includes(text)) values.push(text);
  }
  const places = new Map(values.map((value, index) => [value, index]));
  const others = dark ? OTHERS.dark : OTHERS.light;
  const hasColour = ({ data }: Document) => places.has(formatCell(valueAt(data, path)));
  return {
    values,
    colours: [...colours, others],
    legend: [
      ...values.map((label, index) => ({ label, colour: colours[index]! })),
      ...(documents.every(hasColour) ? [] : [{ label: 'others', colour: others }]),
    ],
    indexOf: ({ data }) => places.get(formatCell(valueAt(data, path))) ?? colours.length,
  };
}

const shorten = (value: number) => `from ${Number(value.toPrecision(3)).toLocaleString()}`;
