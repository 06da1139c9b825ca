<script lang="ts">
  import type { Finding } from "../api/client";
  import { percentOfScale } from "../lib/format";
  import type { Bench } from "./bench.svelte";

  const { bench, finding }: { bench: Bench; finding: Finding } = $props();
  const spots = $derived(finding.spots ?? []);
  const helping = $derived(bench.treatments.filter((t) => t.treats.includes(finding.kind)));

  function spotBeside(step: number) {
    const at = spots.findIndex(
      (s) => bench.marked?.frame === s.frame && bench.marked.x === s.x && bench.marked.y === s.y,
    );
    const spot = spots[at < 0 ? 0 : (at + step + spots.length) % spots.length];
    if (spot) bench.goTo(spot.frame, spot);
  }
</script>

{#if finding.detail}<p>{finding.detail}</p>{/if}
{#if finding.unit === "CV"}
  <p class="text-[13px] text-quiet">{percentOfScale(finding.value)} of full scale</p>
{/if}
<p class="py-1 text-[13px] text-quiet">Measured worst in frame {finding.frame}.</p>
{#if spots.length}
  <div class="flex items-center gap-1.5 py-1 text-[13px]">
    <button class="btn btn-xs" onclick={() => spotBeside(-1)}>Previous place</button>
    <button class="btn btn-xs" onclick={() => spotBeside(1)}>Next place</button>
    <span class="text-quiet">of {spots.length} listed</span>
  </div>
{/if}
{#if helping.length}
  <h3 class="pt-2 font-semibold">What treats it</h3>
  <ul>
    {#each helping as treatment (treatment.kind)}
      <li class="flex items-center gap-2 py-0.5">
        <span class="grow">{treatment.title}</span>
        <button class="btn btn-xs" onclick={() => bench.addStep(treatment.kind)}>Add</button>
      </li>
    {/each}
  </ul>
{:else}
  <h3 class="pt-2 font-semibold">No step treats this</h3>
  <p data-testid="instead">{bench.insteadOf(finding.kind)}</p>
{/if}
