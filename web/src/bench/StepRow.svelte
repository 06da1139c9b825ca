<script lang="ts">
  import type { Step, Treatment } from "../api/client";
  import type { Bench } from "./bench.svelte";
  import NumberControl from "./NumberControl.svelte";
  import ReachEditor from "./ReachEditor.svelte";
  import { CHANNELS, controlsOf, MIX } from "./schema";

  interface Props {
    bench: Bench;
    index: number;
    step: Step;
    treatment: Treatment;
  }
  const { bench, index, step, treatment }: Props = $props();
  let open = $state(false);
  const controls = $derived(controlsOf(treatment.parameters));
  const settings = $derived((step.settings ?? {}) as Record<string, number>);
  const channels = $derived((step.channels ?? {}) as Record<string, number>);
  const last = $derived((bench.version?.plan.steps?.length ?? 1) - 1);
  const marks = $derived(
    [
      step.mix !== undefined && step.mix !== 100 ? `Mix ${step.mix} %` : "",
      CHANNELS.some((c) => (channels[c.name] ?? 100) !== 100) ? "some channels" : "",
      reaches() ? "Reach" : "",
    ].filter(Boolean),
  );

  function reaches(): boolean {
    const reach = step.reach;
    return !!(
      reach &&
      (reach.tones || reach.hues?.length || reach.shapes?.length || reach.detail || reach.invert)
    );
  }

  let tried = $state("");
  $effect(() => {
    if (!tried) tried = controls[0]?.name ?? "";
  });

  function tryOut() {
    const control = controls.find((c) => c.name === tried);
    if (control) void bench.strip.start(index, control);
  }

  function change(part: Partial<Step>) {
    bench.versions.changeStep(index, part);
  }
</script>

<li class="border-b border-rule py-1.5" data-step={step.kind}>
  <div class="flex items-center gap-2">
    <input
      type="checkbox"
      class="checkbox checkbox-xs"
      checked={step.enabled ?? true}
      onchange={(event) => change({ enabled: event.currentTarget.checked })}
      aria-label={`Use ${treatment.title}`}
    />
    <button class="grow text-left font-semibold" onclick={() => (open = !open)} aria-expanded={open}>
      {index + 1}. {treatment.title}
    </button>
    {#if marks.length}<span class="text-[13px] whitespace-nowrap text-quiet">{marks.join(", ")}</span>{/if}
    <span aria-hidden="true" class="text-quiet">{open ? "–" : "+"}</span>
  </div>
  <p class="mt-0.5 text-[13px] text-quiet">{step.reason || treatment.parameters.description}</p>
  {#if open}
    <div class="mt-1.5">
      {#each controls as control (control.name)}
        <NumberControl
          {control}
          value={settings[control.name] ?? control.standard}
          onchange={(value) => change({ settings: { ...settings, [control.name]: value } })}
        />
      {/each}
      <NumberControl control={MIX} value={step.mix ?? 100} onchange={(mix) => change({ mix })} />
      <details class="pt-0.5">
        <summary class="cursor-pointer">Channels</summary>
        {#each CHANNELS as control (control.name)}
          <NumberControl
            {control}
            value={channels[control.name] ?? 100}
            onchange={(value) =>
              change({ channels: { r: 100, g: 100, b: 100, ...channels, [control.name]: value } })}
          />
        {/each}
      </details>
      <ReachEditor {bench} step={index} />
      <div class="flex items-center gap-1.5 border-t border-rule pt-1.5">
        <select class="select grow select-xs" bind:value={tried} aria-label="Setting to try">
          {#each controls as control (control.name)}<option value={control.name}>{control.title}</option
            >{/each}
        </select>
        <button class="btn btn-xs" onclick={tryOut}>Test strip</button>
      </div>
      <div class="flex gap-1.5 pt-2">
        <button class="btn btn-xs" onclick={() => bench.handover.copy(step)}>Copy</button>
        <button class="btn btn-xs" onclick={() => bench.versions.repeatStep(index)}>Repeat</button>
        <button
          class="btn btn-xs"
          disabled={index === 0}
          onclick={() => bench.versions.moveStep(index, index - 1)}>Earlier</button
        >
        <button
          class="btn btn-xs"
          disabled={index >= last}
          onclick={() => bench.versions.moveStep(index, index + 1)}>Later</button
        >
        <span class="grow"></span>
        <button class="btn btn-xs" onclick={() => bench.versions.dropStep(index)}>Remove</button>
      </div>
    </div>
  {/if}
</li>
