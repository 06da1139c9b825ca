<script lang="ts" module>
  /** A line over the x values of its chart; null where it has no point. */
  export interface Line {
    name: string;
    values: (number | null)[];
    stroke?: string;
    width?: number;
    dash?: number[];
    /** Points alone, without a line between them. */
    points?: boolean;
    /** Columns down to nothing, of this colour. */
    columns?: string;
    /** Which of the two upright scales it is read on. */
    scale?: "y" | "other";
  }
</script>

<script lang="ts">
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";
  import { short } from "./format";

  interface Props {
    /** Ascending; every line has as many values. */
    x: number[];
    xName: string;
    lines: Line[];
    height: number;
    label: string;
    /** Where an upright rule marks a value. */
    mark?: number | null;
    /** Lines alone over the whole width, half a step beyond both ends, between these values: others are told beside it. */
    bare?: [number, number] | null;
    /** Told of the point under the pointer. */
    onunder?: (index: number | null) => void;
  }
  const { x, xName, lines, height, label, mark = null, bare = null, onunder }: Props = $props();
  const [INK, RULE, FONT] = ["#161616", "#8a8a8a", '11px "Atkinson Hyperlegible Next Variable", sans-serif'];
  let width = $state(0);
  let place = $state<HTMLDivElement>();
  /** The point under the pointer. */
  let under = $state<number | null>(null);

  function point(chart: uPlot) {
    under = chart.cursor.idx ?? null;
    onunder?.(under);
  }

  function drawMark(chart: uPlot) {
    if (mark === null) return;
    const { ctx, bbox } = chart;
    const at = chart.valToPos(mark, "x", true);
    ctx.save();
    ctx.strokeStyle = "#ffffff";
    ctx.lineWidth = 3 * devicePixelRatio;
    ctx.beginPath();
    ctx.moveTo(at, bbox.top);
    ctx.lineTo(at, bbox.top + bbox.height);
    ctx.stroke();
    ctx.restore();
  }

  const axis = { stroke: INK, font: FONT, grid: { stroke: RULE, width: 0.6 }, ticks: { show: false } };
  const upright = (least: number, most: number): [number, number] => [
    Math.min(least, 0),
    Math.max(most * 1.08, 0.1),
  ];

  $effect(() => {
    if (!place || width < 40) return;
    const data = [x, ...lines.map((line) => line.values)] as uPlot.AlignedData;
    const chart = new uPlot(
      {
        width,
        height,
        padding: bare ? [0, 0, 0, 0] : [6, 10, 0, 0],
        cursor: { drag: { x: false, y: false }, points: { size: 5 } },
        legend: { show: false },
        scales: {
          x: bare ? { time: false, range: (_, first, last) => [first - 0.5, last + 0.5] } : { time: false },
          y: { range: (_, least, top) => bare ?? upright(least, top) },
          other: { range: (_, least, top) => upright(least, top) },
        },
        axes: [
          { ...axis, size: 20, gap: 2, space: 44, show: !bare },
          { ...axis, size: 34, gap: 4, space: 34, show: !bare },
          ...(lines.some((line) => line.scale === "other")
            ? [{ ...axis, scale: "other", side: 1, size: 34, gap: 4, space: 34, grid: { show: false } }]
            : []),
        ],
        series: [
          { label: xName, value: (_, value) => (value == null ? "–" : short(value)) },
          ...lines.map((line): uPlot.Series => ({
            label: line.name,
            scale: line.scale ?? "y",
            stroke: line.columns ?? line.stroke ?? INK,
            fill: line.columns,
            paths: line.columns ? uPlot.paths.bars?.({ size: [1, Infinity] }) : undefined,
            width: line.points ? 0 : (line.width ?? 1.5),
            dash: line.dash,
            spanGaps: true,
            points: line.points ? { show: true, size: 7, stroke: INK, fill: "transparent" } : { show: false },
            value: (_, value) => (value == null ? "–" : short(value)),
          })),
        ],
        hooks: {
          drawClear: [drawMark],
          setCursor: [point],
        },
      },
      data,
      place,
    );
    return () => chart.destroy();
  });
</script>

<div bind:clientWidth={width} class="chart">
  <div bind:this={place} role="img" aria-label={label}></div>
  {#if !bare}<p class="flex flex-wrap gap-x-2.5 text-[12px]">
      {#each lines as line (line.name)}
        {@const value = under === null ? null : line.values[under]}
        <span class="flex items-center gap-1">
          <svg width="18" height="8" aria-hidden="true">
            {#if line.points}
              <circle cx="9" cy="4" r="3" fill="none" stroke={line.stroke ?? INK} />
            {:else}
              <line
                x1="0"
                x2="18"
                y1="4"
                y2="4"
                stroke={line.stroke ?? INK}
                stroke-width={line.width ?? 1.5}
                stroke-dasharray={line.dash?.join(" ")}
              />
            {/if}
          </svg>{line.name}{#if value != null}<span class="figure">{short(value)}</span>{/if}
        </span>
      {/each}
      {#if under !== null}<span class="ml-auto"
          >{xName} <span class="figure">{short(x[under] ?? 0)}</span></span
        >{/if}
    </p>{/if}
</div>
