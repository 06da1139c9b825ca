<script lang="ts">
  import { pictureAddress } from "../api/client";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.compare);
  const scale = $derived(Math.min(112 / (bench.shot?.media.width ?? 112), 1));
</script>

<section aria-label="Stills" class="pt-2" data-testid="stills">
  <button class="btn btn-xs" onclick={desk.keep}
    >Keep a still of {bench.view === "source" || !bench.version ? "the source" : bench.version.label}, frame {bench.n}</button
  >
  <ul class="pt-2">
    {#each desk.stills as still (still.id)}
      <li class="flex gap-2 border-b border-rule py-1.5" data-still={still.id}>
        {#if bench.shot}
          <button class="shrink-0" onclick={() => desk.useStill(still)} title="Compare with it">
            <img
              src={pictureAddress(bench.shot, { kind: "still", still }, { n: still.n, scale })}
              alt={still.name}
              class="block w-28 bg-surround"
            />
          </button>
        {/if}
        <div class="flex min-w-0 grow flex-col gap-1">
          <input
            class="input w-full input-xs"
            aria-label="Name of the still"
            value={still.name}
            onchange={(event) => desk.rename(still, event.currentTarget.value)}
          />
          <span class="text-[13px] text-quiet"
            >{still.label ? `version ${still.label}` : "source"}, frame
            <span class="figure">{still.n}</span></span
          >
          <span class="flex gap-1.5">
            <button class="btn btn-xs" onclick={() => desk.useStill(still)}>Compare</button>
            <button
              class={["btn btn-xs", desk.front === `still ${still.id}` && "btn-active btn-neutral"]}
              title="In the version's place, until a view is chosen"
              onclick={() => desk.putInFront(still)}>Show</button
            >
            <button class="btn btn-xs" onclick={() => desk.drop(still)}>Delete</button>
          </span>
        </div>
      </li>
    {:else}
      <li class="py-1 text-quiet">
        None kept. A still keeps the frame with the plan and the look of this moment, whatever changes later.
      </li>
    {/each}
  </ul>
</section>
