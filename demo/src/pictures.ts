import { PNG } from 'pngjs';

/** A balloon that can be drawn. */
export interface Pictured {
  colours: readonly string[];
  panels: number;
}

type Colour = readonly [red: number, green: number, blue: number];

const COLOURS: Readonly<Record<string, Colour>> = {
  amber: [244, 170, 36],
  cobalt: [32, 74, 170],
  coral: [245, 122, 98],
  crimson: [184, 22, 52],
  emerald: [22, 148, 92],
  golden: [228, 186, 44],
  indigo: [72, 48, 150],
  ivory: [244, 238, 218],
  jade: [62, 168, 128],
  lilac: [188, 154, 216],
  mauve: [150, 98, 152],
  ochre: [198, 132, 42],
  pearl: [226, 226, 220],
  russet: [148, 70, 36],
  saffron: [246, 190, 60],
  scarlet: [222, 48, 38],
  silver: [178, 184, 192],
  teal: [22, 132, 140],
  violet: [124, 62, 170],
  white: [250, 250, 248],
};
const GREY: Colour = [150, 150, 150];
const BASKET: Colour = [122, 84, 48];
const [WIDTH, HEIGHT] = [200, 250];
/** Each point is drawn as so many times so many, so that edges are smooth. */
const FINE = 2;

/** Draws a balloon in its colours before the sky, as a PNG. */
export function drawBalloon(balloon: Pictured): Buffer {
  const picture = new PNG({ width: WIDTH, height: HEIGHT });
  for (let y = 0; y < HEIGHT; y++) {
    for (let x = 0; x < WIDTH; x++) {
      const sum = [0, 0, 0];
      for (let step = 0; step < FINE * FINE; step++) {
        const at = [
          (x + ((step % FINE) + 0.5) / FINE) / WIDTH,
          (y + (Math.floor(step / FINE) + 0.5) / FINE) / HEIGHT,
        ] as const;
        colourAt(at[0], at[1], balloon).forEach((part, index) => (sum[index]! += part));
      }
      const place = (y * WIDTH + x) * 4;
      for (let index = 0; index < 3; index++) picture.data[place + index] = Math.round(sum[index]! / FINE ** 2);
      picture.data[place + 3] = 255;
    }
  }
  return PNG.sync.write(picture);
}

/** The colour of a point; both coordinates go from 0 to 1, down and to the right. */
function colourAt(x: number, y: number, { colours, panels }: Pictured): Colour {
  const across = x - 0.5;
  // The envelope is round above and narrows towards its mouth.
  const [top, middle, mouth] = [0.06, 0.37, 0.74];
  const radius =
    y < middle
      ? 0.39 * Math.sqrt(Math.max(0, 1 - ((middle - y) / (middle - top)) ** 2))
      : 0.39 - 0.31 * ((y - middle) / (mouth - middle)) ** 1.7;
  if (y >= top && y <= mouth && Math.abs(across) <= radius) {
    const turn = Math.asin(Math.max(-1, Math.min(1, across / Math.max(radius, 1e-6)))) / Math.PI + 0.5;
    const panel = Math.floor(turn * (panels / 2));
    const colour = COLOURS[colours[panel % Math.max(1, colours.length)] ?? ''] ?? GREY;
    // Light comes from the upper left.
    const light = 1.08 - 0.42 * Math.hypot(across / 0.39 + 0.35, (y - 0.28) / 0.5) ** 1.6 * 0.6;
    return colour.map((part) => Math.min(255, part * light)) as unknown as Colour;
  }
  const inBasket = y > 0.84 && y < 0.93 && Math.abs(across) < 0.075 - (y - 0.84) * 0.15;
  if (inBasket) return Math.floor(y * 110) % 2 ? BASKET : [104, 70, 38];
  const rope = 0.075 + (0.84 - y) * 0.06;
  if (y > mouth && y <= 0.84 && Math.abs(Math.abs(across) - rope) < 0.004) return [70, 60, 50];
  return [150 + 70 * y, 196 + 34 * y, 236 + 10 * y];
}
