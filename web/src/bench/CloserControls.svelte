<script lang="ts">
  import type { Closer } from "../api/client";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const SIGNALS: [Closer["signal"], string][] = [
    ["all", "Colour"],
    ["luma", "Luma alone"],
    ["chroma", "Chroma alone"],
    ["r", "Red"],
    ["g", "Green"],
    ["b", "Blue"],
  ];
</script>

<label class="flex items-center gap-1.5">
  Show
  <select class="select w-28 select-xs" bind:value={bench.closer.signal}>
    {#each SIGNALS as [signal, name] (signal)}<option value={signal}>{name}</option>{/each}
  </select>
</label>
{#if bench.shown === "removed"}
  <label class="flex items-center gap-1.5">
    Gain
    <select class="select w-20 select-xs" bind:value={bench.closer.gain}>
      {#each [2, 4, 8, 16, 32] as gain (gain)}<option value={gain}>×{gain}</option>{/each}
    </select>
  </label>
{:else}
  <label
    class="flex items-center gap-1.5"
    title="Contrast raised about the picture's middle level, on both sides alike"
  >
    Stress
    <input type="range" class="amount w-20" min="0" max="100" step="5" bind:value={bench.closer.stress} />
    <span class="w-10 figure text-[13px]">{bench.closer.stress} %</span>
  </label>
{/if}
