<script lang="ts">
  import type { PatchReading } from "../api/client";
  import { short } from "../lib/format";
  import { clamp, type Box, type Placement } from "../lib/geometry";
  import type { Bench } from "./bench.svelte";

  interface Props {
    bench: Bench;
    placement: Placement;
    ratio: number;
    drawn: Box | null;
  }
  const { bench, placement, ratio, drawn }: Props = $props();
  const LEAST = 16;
  const here = $derived(bench.readings.filter((reading) => reading.patch.frame === bench.n));
  const marked = $derived(bench.marked?.frame === bench.n ? bench.marked : null);
  let held = $state<{ reading: PatchReading; box: Box; x: number; y: number; sizing: boolean } | null>(null);

  function style(box: Box): string {
    const css = (value: number) => `${value / ratio}px`;
    return [
      `left:${css(placement.offsetX + box.x * placement.scale)}`,
      `top:${css(placement.offsetY + box.y * placement.scale)}`,
      `width:${css(box.width * placement.scale)}`,
      `height:${css(box.height * placement.scale)}`,
    ].join(";");
  }

  function boxOf(reading: PatchReading): Box {
    return held?.reading === reading ? held.box : reading.patch;
  }

  /** A patch's figure, of the picture that is shown: of the source, or of the result. */
  function said(reading: PatchReading): string {
    if (!reading.flat) return `not usable: ${reading.reason}`;
    if (bench.shown !== "result") return `${short(reading.luma_cv)} CV`;
    const after = bench.after(reading.patch);
    return after ? `${short(after.result_luma_cv)} CV left` : "measuring …";
  }

  function changed(patch: Box, dx: number, dy: number, sizing: boolean): Box {
    const media = bench.shot?.media ?? { width: 1, height: 1 };
    if (sizing)
      return {
        ...patch,
        width: clamp(Math.round(patch.width + dx), LEAST, media.width - patch.x),
        height: clamp(Math.round(patch.height + dy), LEAST, media.height - patch.y),
      };
    return {
      ...patch,
      x: clamp(Math.round(patch.x + dx), 0, media.width - patch.width),
      y: clamp(Math.round(patch.y + dy), 0, media.height - patch.height),
    };
  }

  function press(event: PointerEvent, reading: PatchReading, sizing: boolean) {
    event.stopPropagation();
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    held = { reading, box: reading.patch, x: event.clientX, y: event.clientY, sizing };
  }

  function move(event: PointerEvent) {
    if (!held) return;
    const unit = ratio / placement.scale;
    held.box = changed(
      held.reading.patch,
      ((event.clientX - held.x) * unit) / bench.aspect,
      (event.clientY - held.y) * unit,
      held.sizing,
    );
  }

  function release() {
    const done = held;
    held = null;
    if (done && done.box !== done.reading.patch)
      void bench.judge({ ...done.box, frame: done.reading.patch.frame }, done.reading);
  }

  const STEPS: Record<string, [number, number]> = {
    ArrowLeft: [-8, 0],
    ArrowRight: [8, 0],
    ArrowUp: [0, -8],
    ArrowDown: [0, 8],
  };

  /** Arrows move a patch, with Shift they size it: eight pixels a step. */
  function nudge(event: KeyboardEvent, reading: PatchReading) {
    const step = STEPS[event.key];
    if (!step) return;
    event.preventDefault();
    event.stopPropagation();
    const box = changed(reading.patch, step[0], step[1], event.shiftKey);
    void bench.judge({ ...box, frame: reading.patch.frame }, reading);
  }
</script>

<div class="pointer-events-none absolute inset-0 overflow-hidden">
  {#if marked}
    <div
      class="absolute border-2 border-outside outline outline-1 outline-black"
      style={style(marked)}
      data-testid="marked"
    ></div>
  {/if}
  {#each here as reading, index (index)}
    <div
      class={[
        "pointer-events-auto absolute cursor-move touch-none border border-white outline outline-1 outline-black",
        !reading.flat && "border-dashed",
      ]}
      style={style(boxOf(reading))}
      role="button"
      tabindex="0"
      aria-label={`Patch ${index + 1}: arrows move it, Shift and arrows size it`}
      onpointerdown={(event) => press(event, reading, false)}
      onpointermove={move}
      onpointerup={release}
      onpointercancel={() => (held = null)}
      onkeydown={(event) => nudge(event, reading)}
    >
      <span
        class="pointer-events-none absolute top-full left-0 mt-0.5 origin-left bg-black/70 px-1 figure text-xs whitespace-nowrap text-on-picture"
        style:transform={`scaleX(${1 / bench.aspect})`}
      >
        {said(reading)}
      </span>
      <span
        class="absolute -right-1.5 -bottom-1.5 size-3 cursor-nwse-resize border border-black bg-white"
        role="presentation"
        onpointerdown={(event) => press(event, reading, true)}
        onpointermove={move}
        onpointerup={release}
      ></span>
    </div>
  {/each}
  {#if drawn}
    <div class="absolute border border-white outline outline-1 outline-black" style={style(drawn)}></div>
  {/if}
</div>
