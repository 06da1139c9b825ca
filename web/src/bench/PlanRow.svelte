<script lang="ts">
  import type { Step } from "../api/client";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.handover);
  const steps = $derived(bench.version?.plan.steps ?? []);
  let name = $state("");
  let chosen = $state("");
  let dialog = $state<HTMLDialogElement>();
  let picked = $state<number[]>([]);

  function usePreset() {
    const preset = desk.presets.find((p) => String(p.id) === chosen);
    if (preset) void desk.usePreset(preset);
  }

  function show() {
    picked = [];
    void desk.loadShots();
    dialog?.showModal();
  }

  function apply() {
    const note = `As ${bench.shot?.name} ${bench.version?.label}`;
    void desk.toShots([...picked], $state.snapshot(steps) as Step[], note);
    dialog?.close();
  }
</script>

<details class="border-b border-rule py-1.5" data-testid="handover">
  <summary class="cursor-pointer">Copy, presets, other shots</summary>
  <div class="flex flex-wrap gap-1.5 pt-1.5">
    <button class="btn btn-xs" disabled={!steps.length} onclick={() => desk.copy()}>Copy plan</button>
    <button class="btn btn-xs" disabled={!desk.copied.length || !bench.shot?.report} onclick={desk.paste}
      >Paste {desk.copied.length || ""} {desk.copied.length === 1 ? "step" : "steps"}</button
    >
    <button class="btn btn-xs" disabled={!steps.length} onclick={show}>Apply to shots…</button>
  </div>
  <div class="flex gap-1.5 pt-1.5">
    <select class="select grow select-xs" bind:value={chosen} aria-label="Preset">
      <option value="">{desk.presets.length ? "Choose a preset" : "No preset saved"}</option>
      {#each desk.presets as preset (preset.id)}<option value={String(preset.id)}>{preset.name}</option
        >{/each}
    </select>
    <button class="btn btn-xs" disabled={!chosen || !bench.shot?.report} onclick={usePreset}>Use</button>
    <button
      class="btn btn-xs"
      disabled={!chosen}
      onclick={() => {
        const preset = desk.presets.find((p) => String(p.id) === chosen);
        chosen = "";
        if (preset) void desk.dropPreset(preset);
      }}>Delete</button
    >
  </div>
  <form
    class="flex gap-1.5 pt-1.5"
    onsubmit={(event) => {
      event.preventDefault();
      void desk.savePreset(name.trim());
      name = "";
    }}
  >
    <input
      class="input grow input-xs"
      placeholder="Name of a new preset"
      aria-label="Name of a new preset"
      bind:value={name}
    />
    <button class="btn btn-xs" disabled={!name.trim() || !steps.length}>Save preset</button>
  </form>
</details>

<dialog bind:this={dialog} class="modal" aria-labelledby="apply-title">
  <div class="modal-box max-w-md">
    <h2 id="apply-title" class="pb-2 text-base font-semibold perforated">
      Apply version {bench.version?.label} to other shots
    </h2>
    <p class="py-2 text-quiet">
      Each gets a new version with these steps and its own noise profile; what it has stays as it is.
    </p>
    <ul class="max-h-72 overflow-y-auto">
      {#each desk.shots.filter((s) => s.id !== bench.shot?.id) as shot (shot.id)}
        <li>
          <label class="flex items-center gap-2 py-0.5">
            <input
              type="checkbox"
              class="checkbox checkbox-xs"
              value={shot.id}
              bind:group={picked}
              disabled={!shot.findings}
            />
            <span class="grow">{shot.name}</span>
            {#if !shot.findings}<span class="text-[13px] text-quiet">not measured</span>{/if}
          </label>
        </li>
      {/each}
    </ul>
    <div class="mt-3 flex justify-end gap-2">
      <form method="dialog"><button class="btn btn-sm">Close</button></form>
      <button class="btn btn-primary btn-sm" disabled={!picked.length} onclick={apply}
        >Apply to {picked.length} {picked.length === 1 ? "shot" : "shots"}</button
      >
    </div>
  </div>
</dialog>
