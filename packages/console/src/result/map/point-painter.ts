import { positionAt, type MovingPoint, type MovingPoints } from './moving-points';

/** What the map looks at: the size of the canvas in CSS pixels, and what lies in its middle. */
export interface Sight {
  widthPx: number;
  heightPx: number;
  /** Device pixels for a CSS pixel. */
  density: number;
  centreX: number;
  centreY: number;
  /** Units of the projection for a CSS pixel. */
  resolution: number;
}

/** How points are drawn. */
export interface PointStyle {
  colours: readonly string[];
  /** The colour of labels, and of the edge around them and around points. */
  ink: string;
  paper: string;
  accent: string;
  trails: boolean;
  labelOf: (point: MovingPoint) => string;
  picked: ReadonlySet<string>;
  selected: string;
}

const RADIUS_PX = 5;
/** With more points in sight, they are drawn smaller, and without trails and labels. */
const MANY = 1500;
const SMALL_RADIUS_PX = 3;
const MOST_LABELLED = 250;
const LABEL_PX = 15;
const MOST_LABEL_CHARACTERS = 28;

/** Draws points on a canvas. Many points are written into its pixels directly. */
export class PointPainter {
  readonly #sprites = new Map<string, HTMLCanvasElement>();
  #pixels: ImageData | undefined;

  paint(context: CanvasRenderingContext2D, points: MovingPoints, style: PointStyle, sight: Sight, now: number): void {
    const { widthPx, heightPx, density, centreX, centreY, resolution } = sight;
    context.setTransform(density, 0, 0, density, 0, 0);
    context.clearRect(0, 0, widthPx, heightPx);
    const xOf = (x: number) => (x - centreX) / resolution + widthPx / 2;
    const yOf = (y: number) => (centreY - y) / resolution + heightPx / 2;

    const inSight: { point: MovingPoint; x: number; y: number }[] = [];
    for (const point of points.byId.values()) {
      const [px, py] = positionAt(point, now);
      const [x, y] = [xOf(px), yOf(py)];
      if (x > -20 && y > -20 && x < widthPx + 20 && y < heightPx + 20) inSight.push({ point, x, y });
    }
    const many = inSight.length > MANY;
    if (style.trails && !many) {
      context.lineWidth = 1.5;
      context.globalAlpha = 0.55;
      for (const { point, x, y } of inSight) drawTrail(context, point, style, xOf, yOf, x, y);
      context.globalAlpha = 1;
    }
    const radius = many ? SMALL_RADIUS_PX : RADIUS_PX;
    if (many) this.#paintMany(context, inSight, style, sight);
    else {
      const half = radius + 1.5;
      for (const { point, x, y } of inSight) {
        const sprite = this.#spriteOf(style.colours[point.colour]!, style.paper, radius, density);
        context.drawImage(sprite, x - half, y - half, 2 * half, 2 * half);
      }
    }
    this.#ring(context, inSight, style, radius);
    if (inSight.length <= MOST_LABELLED) drawLabels(context, inSight, style, radius);
  }

  /** Writes discs into the pixels directly. Where the browser draws in software, this takes a fraction of the time. */
  #paintMany(
    context: CanvasRenderingContext2D,
    inSight: readonly { point: MovingPoint; x: number; y: number }[],
    { colours, paper }: PointStyle,
    { widthPx, heightPx, density }: Sight,
  ): void {
    const [width, height] = [Math.round(widthPx * density), Math.round(heightPx * density)];
    if (this.#pixels?.width !== width || this.#pixels.height !== height) this.#pixels = new ImageData(width, height);
    const words = new Uint32Array(this.#pixels.data.buffer);
    words.fill(0);
    const disc = discOf(SMALL_RADIUS_PX * density, density);
    const fills = colours.map(wordOf);
    const edge = wordOf(paper);
    for (const { point, x, y } of inSight) {
      const [left, top] = [Math.round(x * density), Math.round(y * density)];
      const fill = fills[point.colour]!;
      for (let at = 0; at < disc.length; at += 3) {
        const [column, row] = [left + disc[at]!, top + disc[at + 1]!];
        if (column < 0 || row < 0 || column >= width || row >= height) continue;
        words[row * width + column] = disc[at + 2] === 1 ? fill : edge;
      }
    }
    context.putImageData(this.#pixels, 0, 0);
  }

  #ring(
    context: CanvasRenderingContext2D,
    inSight: readonly { point: MovingPoint; x: number; y: number }[],
    { picked, selected, accent, paper }: PointStyle,
    radius: number,
  ): void {
    if (picked.size === 0 && selected === '') return;
    for (const { point, x, y } of inSight) {
      if (!picked.has(point.id) && point.id !== selected) continue;
      for (const [width, colour] of [
        [5, paper],
        [2.5, accent],
      ] as const) {
        context.beginPath();
        context.lineWidth = width;
        context.strokeStyle = colour;
        context.arc(x, y, radius + 4, 0, 2 * Math.PI);
        context.stroke();
      }
    }
  }

  /** A point of a colour, drawn once. */
  #spriteOf(colour: string, edge: string, radius: number, density: number): HTMLCanvasElement {
    const key = `${colour} ${edge} ${radius} ${density}`;
    const known = this.#sprites.get(key);
    if (known) return known;
    const size = 2 * (radius + 1.5);
    const sprite = document.createElement('canvas');
    sprite.width = sprite.height = Math.ceil(size * density);
    const context = sprite.getContext('2d')!;
    context.scale(sprite.width / size, sprite.height / size);
    context.beginPath();
    context.arc(size / 2, size / 2, radius, 0, 2 * Math.PI);
    context.fillStyle = colour;
    context.fill();
    context.lineWidth = 1.5;
    context.strokeStyle = edge;
    context.stroke();
    this.#sprites.set(key, sprite);
    return sprite;
  }
}

/** The pixels of a disc with an edge around it: triples of column, row, and 1 inside or 0 on the edge. */
function discOf(radius: number, edge: number): number[] {
  const pixels: number[] = [];
  const reach = Math.ceil(radius + edge);
  for (let row = -reach; row <= reach; row++) {
    for (let column = -reach; column <= reach; column++) {
      const distance = Math.hypot(column, row);
      if (distance <= radius + edge) pixels.push(column, row, distance <= radius ? 1 : 0);
    }
  }
  return pixels;
}

/** A colour such as `#5a4fcf` as the four bytes of a pixel, opaque, in the order of little-endian machines. */
function wordOf(colour: string): number {
  const [red, green, blue] = [1, 3, 5].map((at) => parseInt(colour.slice(at, at + 2), 16));
  return ((255 << 24) | (blue! << 16) | (green! << 8) | red!) >>> 0;
}

function drawTrail(
  context: CanvasRenderingContext2D,
  { trail, colour }: MovingPoint,
  { colours }: PointStyle,
  xOf: (x: number) => number,
  yOf: (y: number) => number,
  x: number,
  y: number,
): void {
  if (trail.length === 0) return;
  context.beginPath();
  context.moveTo(xOf(trail[0]!), yOf(trail[1]!));
  for (let at = 2; at < trail.length; at += 2) context.lineTo(xOf(trail[at]!), yOf(trail[at + 1]!));
  context.lineTo(x, y);
  context.strokeStyle = colours[colour]!;
  context.stroke();
}

/** Names the points, except where a name would cover another one. The selected ones come first. */
function drawLabels(
  context: CanvasRenderingContext2D,
  inSight: readonly { point: MovingPoint; x: number; y: number }[],
  style: PointStyle,
  radius: number,
): void {
  const { labelOf, ink, paper, picked, selected } = style;
  context.font = '11px system-ui, sans-serif';
  context.textBaseline = 'middle';
  context.lineJoin = 'round';
  context.lineWidth = 3;
  const isFirst = ({ point: { id } }: { point: MovingPoint }) => Number(picked.has(id) || id === selected);
  const taken: { left: number; right: number; y: number }[] = [];
  for (const { point, x, y } of [...inSight].sort((a, b) => isFirst(b) - isFirst(a))) {
    const full = labelOf(point);
    if (full === '') continue;
    const text = full.length > MOST_LABEL_CHARACTERS ? `${full.slice(0, MOST_LABEL_CHARACTERS - 1)}…` : full;
    const left = x + radius + 4;
    const right = left + context.measureText(text).width;
    if (taken.some((other) => Math.abs(other.y - y) < LABEL_PX && left < other.right && right > other.left)) continue;
    taken.push({ left: x - radius, right, y });
    context.strokeStyle = paper;
    context.strokeText(text, left, y);
    context.fillStyle = ink;
    context.fillText(text, left, y);
  }
}
