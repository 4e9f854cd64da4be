<script setup lang="ts">
import uPlot from 'uplot';
import 'uplot/dist/uPlot.min.css';
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue';
import { isDark } from '../shared/theme';

/** A line of the plot: its colour is a variable of the style sheet. */
export interface Line {
  name: string;
  colour: string;
  values: (number | null)[];
  fill?: boolean;
}

const props = defineProps<{
  title: string;
  /** What exactly is measured. */
  about?: string;
  /** In seconds since 1970. */
  times: number[];
  lines: Line[];
  format: (value: number) => string;
}>();
const place = useTemplateRef<HTMLElement>('place');
const HEIGHT_PX = 124;
const CLOCK = new Intl.DateTimeFormat(undefined, { timeStyle: 'medium', hourCycle: 'h23' });
let plot: uPlot | undefined;

const colourOf = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
const data = () => [props.times, ...props.lines.map(({ values }) => values)] as uPlot.AlignedData;

function draw(): void {
  plot?.destroy();
  const [ink, grid] = [colourOf('--ink-3'), colourOf('--line')];
  const axis = {
    stroke: ink,
    grid: { stroke: grid, width: 1 },
    ticks: { show: false },
    font: '11px system-ui, sans-serif',
  };
  plot = new uPlot(
    {
      width: place.value!.clientWidth,
      height: HEIGHT_PX,
      padding: [8, 26, 0, 0],
      legend: { show: false },
      cursor: { y: false, points: { size: 5 }, sync: { key: 'operations' } },
      scales: { y: { range: (_, low, high) => [Math.min(0, low), high > 0 ? high * 1.1 : 1] } },
      axes: [
        { ...axis, size: 24, space: 90, values: (_, times) => times.map((time) => CLOCK.format(time * 1000)) },
        { ...axis, size: 58, space: 26, values: (_, values) => values.map((value) => props.format(value)) },
      ],
      series: [
        {},
        ...props.lines.map(({ name, colour, fill }) => ({
          label: name,
          stroke: colourOf(colour),
          width: 1.5,
          points: { show: false },
          spanGaps: false,
          ...(fill ? { fill: `${colourOf(colour)}22` } : {}),
        })),
      ],
      hooks: { setCursor: [follow] },
    },
    data(),
    place.value!,
  );
}

const readings = useTemplateRef<HTMLElement>('readings');
/** The values under the pointer, or the newest. */
function follow(): void {
  const at = plot?.cursor.idx ?? props.times.length - 1;
  readings.value?.querySelectorAll('output').forEach((output, index) => {
    const value = props.lines[index]?.values[at];
    output.textContent = value === null || value === undefined ? '–' : props.format(value);
  });
}

const observer = new ResizeObserver(() => plot?.setSize({ width: place.value!.clientWidth, height: HEIGHT_PX }));
onMounted(() => {
  draw();
  follow();
  observer.observe(place.value!);
});
watch(
  () => props.times,
  () => {
    plot?.setData(data());
    follow();
  },
);
watch(isDark, () => requestAnimationFrame(draw));
onBeforeUnmount(() => {
  observer.disconnect();
  plot?.destroy();
});
</script>

<template>
  <figure>
    <figcaption>
      <b :title="about">{{ title }}</b>
      <span ref="readings" class="readings">
        <span v-for="line in lines" :key="line.name" class="reading">
          <i :class="line.colour.slice(2)" aria-hidden="true" />{{ line.name }} <output>–</output>
        </span>
      </span>
    </figcaption>
    <div ref="place" role="img" :aria-label="`${title} over the last minutes`" />
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  min-width: 0;
  padding: 10px 12px 6px;
  border: 1px solid var(--line);
  border-radius: 6px;
}
figcaption {
  display: flex;
  flex-wrap: wrap;
  gap: 0 12px;
  justify-content: space-between;
  min-height: 22px;
}
.readings {
  display: flex;
  gap: 12px;
  color: var(--ink-2);
  font-size: 12px;
}
.reading {
  white-space: nowrap;
}
output {
  font-variant-numeric: tabular-nums;
}
i {
  display: inline-block;
  width: 9px;
  height: 3px;
  margin-right: 5px;
  vertical-align: middle;
  background: var(--ink-3);
}
i.accent {
  background: var(--accent);
}
i.live {
  background: var(--live);
}
i.warn {
  background: var(--warn);
}
i.bad {
  background: var(--bad);
}
i.number {
  background: var(--number);
}
</style>
