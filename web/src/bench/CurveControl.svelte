<script lang="ts">
  import { clamp } from "../lib/geometry";
  import { typedWithin, type Control, type Curve } from "./schema";

  interface Props {
    curve: Curve;
    values: number[];
    onchange: (name: string, value: number) => void;
  }
  const { curve, values, onchange }: Props = $props();
  const [WIDTH, HEIGHT, RIM] = [276, 84, 12];
  const RADIUS = 6;
  let drawing = $state<SVGSVGElement>();
  let held = -1;

  const x = (k: number) => (WIDTH * (k + 0.5)) / curve.points.length;
  const y = (point: Control, value: number) =>
    HEIGHT - RIM - ((value - point.least) / (point.most - point.least)) * (HEIGHT - 2 * RIM);
  const path = $derived(curve.points.map((p, k) => `${x(k)},${y(p, values[k] ?? 0)}`).join(" "));
  const changed = $derived(curve.points.some((point, k) => point.standard !== values[k]));

  function set(point: Control, value: number) {
    const rounded = Math.round(value / point.step) * point.step;
    onchange(point.name, clamp(rounded, point.least, point.most));
  }

  function type(point: Control, text: string) {
    const typed = typedWithin(point, text);
    if (typed !== null) onchange(point.name, typed);
  }

  function press(event: PointerEvent, k: number) {
    held = k;
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
  }

  function pull(event: PointerEvent) {
    const point = curve.points[held];
    const box = drawing?.getBoundingClientRect();
    if (!point || !box) return;
    const along = ((event.clientY - box.top) / box.height) * HEIGHT;
    set(point, point.least + ((HEIGHT - RIM - along) / (HEIGHT - 2 * RIM)) * (point.most - point.least));
  }

  const KEYS: Record<string, number> = { ArrowUp: 1, ArrowRight: 1, ArrowDown: -1, ArrowLeft: -1 };

  function nudge(event: KeyboardEvent, point: Control, k: number) {
    const steps = KEYS[event.key];
    if (steps === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    set(point, (values[k] ?? point.standard) + steps * point.step);
  }
</script>

<div class="py-1" role="group" aria-label={curve.title}>
  <p class="flex justify-between">
    <span class="truncate">{curve.title}</span>
    <button
      class="size-6 text-quiet disabled:opacity-0"
      disabled={!changed}
      onclick={() => {
        for (const point of curve.points) onchange(point.name, point.standard);
      }}
      aria-label={`Reset ${curve.title}`}
      title="Reset all points">↺</button
    >
  </p>
  <svg bind:this={drawing} viewBox={`0 0 ${WIDTH} ${HEIGHT}`} class="w-full touch-none bg-base-200">
    {#each curve.points as point, k (point.name)}
      <line x1={x(k)} x2={x(k)} y1="0" y2={HEIGHT} stroke="#8a8a8a" stroke-width="0.6" />
      <line
        x1={x(k) - 18}
        x2={x(k) + 18}
        y1={y(point, point.standard)}
        y2={y(point, point.standard)}
        stroke="#8a8a8a"
        stroke-dasharray="2 3"
      />
    {/each}
    <polyline points={path} fill="none" stroke="#161616" stroke-width="1.5" />
    {#each curve.points as point, k (point.name)}
      <g
        role="slider"
        tabindex="0"
        class="cursor-ns-resize"
        aria-label={`${curve.title}, ${point.title}, point`}
        aria-orientation="vertical"
        aria-valuemin={point.least}
        aria-valuemax={point.most}
        aria-valuenow={values[k]}
        aria-valuetext={`${values[k]} ${point.unit}`}
        onpointerdown={(event) => press(event, k)}
        onpointermove={pull}
        onpointerup={() => (held = -1)}
        onpointercancel={() => (held = -1)}
        onkeydown={(event) => nudge(event, point, k)}
      >
        <circle cx={x(k)} cy={y(point, values[k] ?? 0)} r="13" fill="transparent" />
        <circle cx={x(k)} cy={y(point, values[k] ?? 0)} r={RADIUS} fill="#161616" stroke="#c8c8c8" />
      </g>
    {/each}
  </svg>
  <div class="grid auto-cols-fr grid-flow-col gap-1 pt-1">
    {#each curve.points as point, k (point.name)}
      <label class="flex flex-col items-center text-[13px] text-quiet" title={point.help}>
        <span class="whitespace-nowrap">{point.title}</span>
        <span class="flex items-center gap-1">
          <input
            class="input w-12 text-right figure input-xs"
            inputmode="decimal"
            aria-label={`${curve.title}, ${point.title}`}
            value={values[k]}
            onchange={(event) => type(point, event.currentTarget.value)}
          />{point.unit}
        </span>
      </label>
    {/each}
  </div>
</div>
