<script lang="ts">
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const player = $derived(bench.player);
  const coarse = $derived([...player.coarse].filter((n) => !player.ready.has(n)).length);
  const count = $derived(player.range.last - player.range.first + 1);
</script>

<div class="flex items-center gap-1.5 whitespace-nowrap" role="group" aria-label="Loop">
  <button
    class={["btn w-14 btn-xs", player.playing && "btn-active btn-neutral"]}
    aria-pressed={player.playing}
    onclick={() => player.toggle()}>{player.playing ? "Stop" : "Loop"}</button
  >
  <button class="btn btn-xs" onclick={() => player.from(bench.n)} title="The loop begins at this frame"
    >from here</button
  >
  <button class="btn btn-xs" onclick={() => player.to(bench.n)} title="The loop ends at this frame"
    >to here</button
  >
  {#if player.shown}
    <span data-testid="loop">
      <span class="figure">{player.range.first}–{player.range.last}</span>, ready
      <span class="figure">{player.ready.size}/{count}</span>{coarse
        ? `, ${coarse} more coarsely`
        : ""}{player.speed === 1 ? "" : `, ×${player.speed}`}
    </span>
    <button class="btn btn-xs" onclick={() => player.clear()} aria-label="Give up the loop">×</button>
  {/if}
</div>
