<script lang="ts">
  import { untrack } from "svelte";
  import type { Bench } from "./bench.svelte";
  import type { Fetched } from "./bitmaps";
  import { drawPanes, halfPlane, rectangle, type Pane } from "./draw";
  import { Fetching } from "./fetching.svelte";
  import Inset from "./Inset.svelte";
  import OverworkMap from "./OverworkMap.svelte";
  import PatchLayer from "./PatchLayer.svelte";
  import { Pointer } from "./pointer.svelte";
  import ShapeLayer from "./ShapeLayer.svelte";
  import { sidesOf } from "./sides";
  import { Sight } from "./sight.svelte";
  import WipeHandle from "./WipeHandle.svelte";

  const { bench }: { bench: Bench } = $props();
  /** A loop is fetched ahead once its pictures rest. */
  const FILL_AFTER_MS = 300;
  let canvas = $state<HTMLCanvasElement>();
  let coarse = $state(false);

  const compare = $derived(bench.compare);
  const player = $derived(bench.player);
  const sides = $derived(sidesOf(bench));
  // A page has one Bench for as long as it stands.
  // svelte-ignore state_referenced_locally
  const sight = new Sight(bench, () => sides.length);
  // svelte-ignore state_referenced_locally
  const fetching = new Fetching(bench, () => ({ sides, region: sight.region, scale: sight.asked }));
  // svelte-ignore state_referenced_locally
  const pointer = new Pointer(bench, sight);
  const { ratio } = sight;

  $effect(() => {
    bench.visible = sight.visible;
  });

  $effect(() => (bench.shot && sight.width ? fetching.fetch() : undefined));

  // The range of a loop is fetched ahead, for the pictures that are shown now.
  $effect(() => {
    if (!player.shown) return;
    void [player.range, sight.region, sight.asked, sides, bench.looks.on, JSON.stringify(bench.closer)];
    const later = setTimeout(() => untrack(() => fetching.fill()), FILL_AFTER_MS);
    return () => clearTimeout(later);
  });

  $effect(() => {
    if (!player.playing) return;
    void [player.speed, player.range];
    return untrack(() => player.run((n) => fetching.here(n)));
  });

  /** Where each picture lies and which part of the screen is its own. */
  function panesOf(pictures: (Fetched | undefined)[]): Pane[] {
    const whole = sight.region ?? { x: 0, y: 0, ...sight.frame };
    const [one, two] = pictures.map((found) => ({ picture: found?.bitmap, area: found?.area ?? whole }));
    const { placement, first, room, second, line } = sight;
    if (!one) return [];
    if (!two) return [{ ...one, placement, clip: null }];
    if (!sight.beside)
      return [
        { ...one, placement, clip: halfPlane(line, -1) },
        { ...two, placement, clip: halfPlane(line, 1) },
      ];
    return [
      { ...one, placement: first, clip: rectangle(0, 0, room.width - 1, room.height - 1) },
      { ...two, placement, clip: rectangle(second.x, second.y, room.width, room.height) },
    ];
  }

  $effect(() => {
    void fetching.arrivals;
    const context = canvas?.getContext("2d", { alpha: false });
    if (!canvas || !context) return;
    const room = sight.canvas;
    if (canvas.width !== room.width || canvas.height !== room.height) {
      canvas.width = room.width;
      canvas.height = room.height;
    }
    const { addresses, pictures } = fetching;
    if (!canvas.dataset.shown) drawPanes(context, [], room);
    if (pictures.length && pictures.every((picture) => picture !== undefined)) {
      drawPanes(context, panesOf(pictures), room);
      coarse = fetching.waiting;
      if (!coarse) canvas.dataset.shown = addresses.join(" ");
    }
  });

  $effect(() => bench.noteAddress());

  function inCv(values: number[]): string {
    return values.map((value, c) => `${"RGB"[c]} ${value.toFixed(1)}`).join("  ");
  }
</script>

<div class="relative h-full w-full overflow-hidden bg-surround" role="application" aria-label="Picture">
  <!-- Pixels that are not square: all that lies on the picture is drawn by square ones, and then widened. -->
  <div
    class="relative h-full origin-left"
    style:width={`${100 / bench.aspect}%`}
    style:transform={bench.aspect === 1 ? null : `scaleX(${bench.aspect})`}
    bind:clientWidth={sight.width}
    bind:clientHeight={sight.height}
  >
    <canvas
      bind:this={canvas}
      class={[
        "block h-full w-full touch-none",
        pointer.aims ? "cursor-crosshair" : "cursor-grab active:cursor-grabbing",
      ]}
      onpointerdown={pointer.press}
      onpointermove={pointer.move}
      onpointerup={pointer.release}
      onpointercancel={pointer.release}
      onpointerleave={pointer.leave}
      onwheel={pointer.wheel}
    ></canvas>
    <OverworkMap {bench} placement={sight.placement} {ratio} />
    <PatchLayer {bench} placement={sight.placement} {ratio} drawn={pointer.drawn} />
    <ShapeLayer {bench} placement={sight.placement} {ratio} />
    {#if compare.mode === "wipe" && sides.length > 1}<WipeHandle
        desk={compare}
        line={sight.line}
        {ratio}
        aspect={bench.aspect}
      />{/if}
    {#if compare.inset}<Inset {bench} {sides} />{/if}
  </div>
  <p
    class="pointer-events-none absolute top-2 left-3 bg-black/60 px-1.5 text-on-picture"
    data-testid="picture-label"
  >
    {sides.map((side) => compare.nameOf(side)).join(sight.second.y > 0 ? " above " : " | ")}{compare.holding
      ? " (held)"
      : ""}{bench.looks.on ? " · under the look" : ""}
  </p>
  {#if pointer.readout}
    {@const readout = pointer.readout}
    <p
      class="pointer-events-none absolute bottom-2 left-3 max-w-[calc(100%-1.5rem)] bg-black/60 px-1.5 figure text-[13px] whitespace-pre-wrap text-on-picture"
      data-testid="readout"
    >
      x {readout.x} y {readout.y} source {inCv(readout.pixel.source)}{readout.pixel.result
        ? ` · result ${inCv(readout.pixel.result)}`
        : ""} CV{bench.shown === "result" && !readout.pixel.result ? " · result not at hand" : ""}
    </p>
  {/if}
  {#if bench.computing}
    <p class="pointer-events-none absolute top-2 right-3 bg-black/60 px-1.5 text-on-picture" role="status">
      {coarse ? "coarse, computing …" : "computing …"}
    </p>
  {/if}
</div>
