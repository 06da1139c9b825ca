<script lang="ts">
  import type { Bench } from "./bench.svelte";
  import { HOLD } from "./keys";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.compare);
  const possible = $derived(bench.version !== null || desk.stills.length > 0);
</script>

<div class="flex flex-wrap items-center gap-1.5" role="group" aria-label="Compare">
  <div class="join">
    <button
      class={["btn join-item btn-xs", desk.mode === "wipe" && "btn-active btn-neutral"]}
      aria-pressed={desk.mode === "wipe"}
      disabled={!possible}
      onclick={() => desk.choose("wipe")}>Wipe</button
    >
    <button
      class={["btn join-item btn-xs", desk.mode === "beside" && "btn-active btn-neutral"]}
      aria-pressed={desk.mode === "beside"}
      disabled={!possible}
      onclick={() => desk.choose("beside")}>Beside</button
    >
    <button
      class={["btn join-item btn-xs", desk.toggled && "btn-active btn-neutral"]}
      aria-pressed={desk.toggled}
      disabled={!possible}
      title={`Hold ${HOLD.shown} to see it as long as the key is down`}
      onclick={() => (desk.toggled = !desk.toggled)}>Other</button
    >
  </div>
  <label class="flex items-center gap-1.5">
    against
    <select class="select w-36 select-xs" aria-label="Compare against" bind:value={desk.against}>
      <option value="source">Source</option>
      {#each bench.shot?.plans ?? [] as version (version.id)}
        <option value={`version ${version.id}`}>Version {version.label}</option>
      {/each}
      {#each desk.stills as still (still.id)}
        <option value={`still ${still.id}`}>Still {still.name}</option>
      {/each}
    </select>
  </label>
  {#if desk.mode === "wipe"}
    <label class="flex items-center gap-1" title="How the line leans">
      <input
        class="input w-14 text-right figure input-xs"
        inputmode="numeric"
        aria-label="Angle of the wipe in degrees"
        value={desk.angle}
        onchange={(event) => {
          const degrees = Number(event.currentTarget.value);
          if (Number.isFinite(degrees)) desk.lean(degrees - desk.angle);
        }}
      />°
    </label>
  {/if}
</div>
