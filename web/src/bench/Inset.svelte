<script lang="ts">
  import { closerQuery, pictureAddress, type Side } from "../api/client";
  import { clamp } from "../lib/geometry";
  import type { Bench } from "./bench.svelte";

  const { bench, sides }: { bench: Bench; sides: Side[] } = $props();
  const SIDE = 176;
  const compare = $derived(bench.compare);
  const media = $derived(bench.shot?.media ?? { width: 1, height: 1 });
  const region = $derived.by(() => {
    const side = Math.round(SIDE / compare.magnified);
    const [width, height] = [Math.min(side, media.width), Math.min(side, media.height)];
    const spot = compare.inset ?? { x: 0, y: 0 };
    return {
      x: Math.round(clamp(spot.x - width / 2, 0, media.width - width)),
      y: Math.round(clamp(spot.y - height / 2, 0, media.height - height)),
      width,
      height,
    };
  });

  function addressOf(side: Side): string {
    if (!bench.shot) return "";
    const where = { n: bench.n, region, scale: compare.magnified, look: bench.looks.on };
    return pictureAddress(bench.shot, side, where) + closerQuery(bench.closer);
  }
</script>

<section
  class="absolute right-3 bottom-10 border border-black bg-base-100 p-1.5"
  aria-label="Magnified inset"
  data-testid="inset"
>
  <div class="flex gap-1.5">
    {#each sides as side, k (k)}
      <figure>
        <img
          src={addressOf(side)}
          alt={`${compare.nameOf(side)}, magnified`}
          width={SIDE}
          height={SIDE}
          class="block bg-surround"
          style="image-rendering:pixelated"
          draggable="false"
        />
        <figcaption class="max-w-44 truncate text-[13px]">{compare.nameOf(side)}</figcaption>
      </figure>
    {/each}
  </div>
  <div class="flex items-center gap-2 pt-1 text-[13px]">
    <span class="grow whitespace-nowrap">
      x <span class="figure">{region.x}</span> y <span class="figure">{region.y}</span>
    </span>
    <select class="select w-22 select-xs" aria-label="Inset magnified by" bind:value={compare.magnified}>
      {#each [2, 4, 8, 16] as times (times)}<option value={times}>{times * 100} %</option>{/each}
    </select>
    <button class="btn btn-xs" onclick={() => (compare.inset = null)}>Close</button>
  </div>
</section>
