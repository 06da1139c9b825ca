<script lang="ts">
  import type { Placement } from "../lib/geometry";
  import type { Bench } from "./bench.svelte";

  const { bench, placement, ratio }: { bench: Bench; placement: Placement; ratio: number } = $props();
  const desk = $derived(bench.overwork);
  const css = (value: number) => `${value / ratio}px`;
</script>

{#if desk.shown && desk.mapFrame === bench.n && !desk.stale}
  <div
    class="pointer-events-none absolute overdone-map"
    data-testid="overwork-map"
    style:left={css(placement.offsetX + desk.region.x * placement.scale)}
    style:top={css(placement.offsetY + desk.region.y * placement.scale)}
    style:width={css(desk.region.width * placement.scale)}
    style:height={css(desk.region.height * placement.scale)}
    style:mask-image={`url("${desk.mapAddress}")`}
  ></div>
{/if}
