<script lang="ts">
  import type { PatchReading } from "../api/client";
  import { short } from "../lib/format";
  import type { Box, Placement } from "../lib/geometry";

  interface Props {
    readings: PatchReading[];
    n: number;
    placement: Placement;
    ratio: number;
    drawn: Box | null;
  }
  const { readings, n, placement, ratio, drawn }: Props = $props();

  function style(box: Box): string {
    const css = (value: number) => `${value / ratio}px`;
    return [
      `left:${css(placement.offsetX + box.x * placement.scale)}`,
      `top:${css(placement.offsetY + box.y * placement.scale)}`,
      `width:${css(box.width * placement.scale)}`,
      `height:${css(box.height * placement.scale)}`,
    ].join(";");
  }
</script>

<div class="pointer-events-none absolute inset-0">
  {#each readings.filter((reading) => reading.patch.frame === n) as reading (reading)}
    <div
      class={[
        "absolute border border-white outline outline-1 outline-black",
        !reading.flat && "border-dashed",
      ]}
      style={style(reading.patch)}
    >
      <span
        class="absolute top-full left-0 mt-0.5 bg-black/70 px-1 figure text-xs whitespace-nowrap text-on-picture"
      >
        {reading.flat ? `${short(reading.luma_cv)} CV` : `not usable: ${reading.reason}`}
      </span>
    </div>
  {/each}
  {#if drawn}
    <div class="absolute border border-white outline outline-1 outline-black" style={style(drawn)}></div>
  {/if}
</div>
