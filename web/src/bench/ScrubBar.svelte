<script lang="ts">
  import { frameTime, short } from "../lib/format";
  import { clamp } from "../lib/geometry";
  import Chart, { type Line } from "../lib/Chart.svelte";
  import FrameField from "./FrameField.svelte";
  import PlayControls from "./PlayControls.svelte";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const HEIGHT = 46;
  let bar = $state<HTMLDivElement>();
  let width = $state(1);
  let moving = false;

  const player = $derived(bench.player);
  const frames = $derived(bench.shot?.media.frames ?? 1);
  const measured = $derived(bench.shot?.report?.noise.by_frame_cv ?? []);
  const found = $derived(bench.shot?.report?.findings.find((f) => f.kind === "noise"));
  /** What is left of each frame's noise under the version. */
  const frameNoise = $derived(bench.left?.by_frame ?? bench.shot?.by_frame);
  const noise = $derived(frameNoise?.cv ?? []);
  const treated = $derived(bench.standings.some((s) => s.kind === "noise" && s.remaining != null));
  const tolerance = $derived(found?.tolerance ?? 0);
  const top = $derived(Math.max(...measured, tolerance * 1.3, 1));
  const worst = $derived(noise.indexOf(Math.max(...noise)));
  const noisiest = $derived(frameNoise?.noisiest ?? []);
  /** Frames that repeat the one before, or before which one is missing. */
  const lapses = $derived(
    (bench.shot?.report?.findings ?? [])
      .filter((f) => f.unit === "frames")
      .flatMap((f) => (f.spots ?? []).map((spot) => ({ kind: f.kind, n: spot.frame }))),
  );
  const course = $derived(bench.courses.course);
  $effect(() => bench.courses.follow());
  const x = (n: number) => ((n + 0.5) / frames) * width;
  /** Whether the label goes where the mark of the frame is not. */
  const labelLeft = $derived(bench.n > 0.75 * frames);
  /** The frame under the pointer, or the one that is shown. */
  let under = $state<number | null>(null);
  const told = $derived(under ?? bench.n);
  const numbers = $derived(Array.from({ length: frames }, (_, n) => n));
  const courseSpan = $derived.by((): [number, number] => {
    const all = course ? [...course.before, ...course.meant, ...course.after] : [0, 1];
    const [low, high] = [Math.min(...all), Math.max(...all)];
    const room = Math.max(high - low, 0.5) * 0.12;
    return [low - room, Math.max(high, low + 0.5) + room];
  });
  /** Half of the bar's height lies in the values, over its foot of 4 pixels. */
  const noiseSpan = $derived<[number, number]>([(-4 * top) / (HEIGHT - 12), top * (1 + 8 / (HEIGHT - 12))]);
  const lines = $derived.by((): Line[] => {
    if (course) {
      const over = (values: number[]) => numbers.map((n) => values[n - course.first] ?? null);
      return [
        { name: "before", values: over(course.before), stroke: "#4a4a4a", width: 1 },
        { name: "meant", values: over(course.meant), width: 1, dash: [4, 3] },
        { name: "left", values: over(course.after), width: 2 },
      ];
    }
    const outside = noise.map((cv, n) => (frameNoise?.outside[n] ? cv : null));
    return [
      { name: "outside", values: outside, columns: "#ffe04a", width: 0 },
      { name: "measured", values: measured, stroke: "#3d3d3d", width: 1 },
      { name: "left", values: noise, width: 1.8 },
      { name: "tolerance", values: noise.map(() => tolerance), stroke: "#3d3d3d", width: 1, dash: [4, 3] },
    ];
  });

  /** Where the tolerance is told at the right end: in the row that is farthest from all lines there. */
  const labelAt = $derived.by(() => {
    const end = [
      ...measured.slice(-Math.ceil(frames / 6)),
      ...noise.slice(-Math.ceil(frames / 6)),
      tolerance,
    ];
    const heights = end.map((cv) => HEIGHT - 4 - (cv / top) * (HEIGHT - 12));
    const clear = (row: number) => Math.min(...heights.map((height) => Math.abs(height - (row - 4))));
    return [18, 30, HEIGHT - 5].reduce((best, row) => (clear(row) > clear(best) ? row : best));
  });

  function seek(event: PointerEvent) {
    const box = bar?.getBoundingClientRect();
    if (box) bench.go(Math.floor(clamp((event.clientX - box.left) / box.width, 0, 0.9999) * frames));
  }

  function press(event: PointerEvent) {
    moving = true;
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    seek(event);
  }
</script>

<div class="border-t border-rule px-3 pt-1 pb-2">
  <div class="flex flex-wrap items-center gap-x-3 text-[13px]">
    <PlayControls {bench} />
    <FrameField {bench} />
    <span class="min-w-0 grow basis-64 truncate text-right">
      {#if course}
        {@const at = told - course.first}
        {course.title}, {under === null ? "here" : `in frame ${under}`}
        <span class="figure">{short(course.before[at] ?? 0)}</span> (thin), left
        <span class="figure">{short(course.after[at] ?? 0)} {course.unit}</span> (bold); dashed: taken as meant
      {:else if noise.length}
        {treated ? "Luma noise left" : "Luma noise"}, {under === null ? "here" : `in frame ${under}`}
        <span class="figure">{short(noise[told] ?? 0)} CV</span>, most
        <button class="figure underline" onclick={() => bench.go(worst)}
          >{short(noise[worst] ?? 0)} CV in frame {worst}</button
        >
      {:else}
        Not measured: the bar shows the noise of each frame once it is.
      {/if}
    </span>
  </div>
  <div
    bind:this={bar}
    bind:clientWidth={width}
    class="relative mt-1 cursor-pointer touch-none bg-base-200"
    style:height={`${HEIGHT}px`}
    role="slider"
    tabindex="0"
    aria-label="Frame"
    aria-valuemin="0"
    aria-valuemax={frames - 1}
    aria-valuenow={bench.n}
    aria-valuetext={frameTime(bench.n, bench.shot?.media.rate ?? "24")}
    onpointerdown={press}
    onpointermove={(event) => moving && seek(event)}
    onpointerup={() => (moving = false)}
    onpointerleave={() => (under = null)}
  >
    {#if course || noise.length}
      <div class="absolute inset-0" data-testid={course ? "course" : "noise-bar"}>
        <Chart
          x={numbers}
          xName="frame"
          {lines}
          height={HEIGHT}
          label={course ? `${course.title} over time, ${course.unit}` : "Luma noise of each frame, CV"}
          bare={course ? courseSpan : noiseSpan}
          onunder={(n) => (under = n)}
        />
      </div>
    {/if}
    <svg class="pointer-events-none absolute inset-0" {width} height={HEIGHT} aria-hidden="true">
      {#if course}
        <text x={width - 4} y="11" text-anchor="end" font-size="11" fill="#161616"
          >{courseSpan[1].toFixed(1)} {course.unit}</text
        >
        <text x={width - 4} y={HEIGHT - 3} text-anchor="end" font-size="11" fill="#161616"
          >{courseSpan[0].toFixed(1)}</text
        >
      {:else if noise.length}
        <text
          x={labelLeft ? 4 : width - 4}
          text-anchor={labelLeft ? "start" : "end"}
          y={labelAt}
          font-size="11"
          fill="#161616">dashed: tolerance {tolerance} CV</text
        >
        {#each noisiest as n (n)}
          <path d={`M${x(n) - 4} 0h8l-4 6z`} fill="#161616" data-testid="noisiest">
            <title>Among the noisiest: frame {n}</title>
          </path>
        {/each}
      {/if}
      {#each lapses as { kind, n } (`${kind} ${n}`)}
        {#if kind === "repeated frames"}
          <path d={`M${x(n) - 4} ${HEIGHT - 12}h8v3h-8zm0 5h8v3h-8z`} fill="#161616" data-testid="lapse">
            <title>Frame {n} repeats the one before</title>
          </path>
        {:else}
          <path
            d={`M${x(n - 0.5) - 1} ${HEIGHT - 14}h2v4h3l-4 5l-4 -5h3z`}
            fill="#161616"
            data-testid="lapse"
          >
            <title>A frame is missing before {n}</title>
          </path>
        {/if}
      {/each}
      {#if player.shown}
        {@const begin = (player.range.first / frames) * width}
        {@const end = ((player.range.last + 1) / frames) * width}
        <path d={`M${begin} ${HEIGHT}v-9h1.5v9zM${end} ${HEIGHT}v-9h-1.5v9z`} fill="#161616" />
        {#each [...player.coarse].filter((n) => !player.ready.has(n)) as n (n)}
          <rect
            x={(n / frames) * width}
            y={HEIGHT - 2}
            width={width / frames + 0.3}
            height="2"
            fill="#5a5a5a"
            data-testid="coarse"
          >
            <title>Frame {n} is here coarsely</title>
          </rect>
        {/each}
        {#each [...player.ready] as n (n)}
          <rect
            x={(n / frames) * width}
            y={HEIGHT - 4}
            width={width / frames + 0.3}
            height="4"
            fill="#161616"
            data-testid="cached"
          />
        {/each}
      {/if}
      <line x1={x(bench.n)} x2={x(bench.n)} y1="0" y2={HEIGHT} stroke="#000" stroke-width="4" />
      <line x1={x(bench.n)} x2={x(bench.n)} y1="0" y2={HEIGHT} stroke="#fff" stroke-width="2" />
    </svg>
  </div>
</div>
