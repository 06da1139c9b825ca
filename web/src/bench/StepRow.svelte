<script lang="ts">
  import type { Step, Treatment } from "../api/client";
  import NumberControl from "./NumberControl.svelte";
  import { controlsOf, MIX } from "./schema";

  interface Props {
    number: number;
    step: Step;
    treatment: Treatment;
    onchange: (change: Partial<Step>) => void;
  }
  const { number, step, treatment, onchange }: Props = $props();
  let open = $state(false);
  const controls = $derived(controlsOf(treatment.parameters));
  const settings = $derived((step.settings ?? {}) as Record<string, number>);
</script>

<li class="border-b border-rule py-1.5" data-step={step.kind}>
  <div class="flex items-center gap-2">
    <input
      type="checkbox"
      class="checkbox checkbox-xs"
      checked={step.enabled}
      onchange={(event) => onchange({ enabled: event.currentTarget.checked })}
      aria-label={`Use ${treatment.title}`}
    />
    <button class="grow text-left font-semibold" onclick={() => (open = !open)} aria-expanded={open}>
      {number}. {treatment.title}
    </button>
    {#if step.mix !== 100}<span class="figure text-[13px] whitespace-nowrap text-quiet">Mix {step.mix} %</span
      >{/if}
    <span aria-hidden="true" class="text-quiet">{open ? "–" : "+"}</span>
  </div>
  <p class="mt-0.5 text-[13px] text-quiet">{step.reason || `For ${treatment.treats.join(" and ")}.`}</p>
  {#if open}
    <div class="mt-1.5">
      {#each controls as control (control.name)}
        <NumberControl
          {control}
          value={settings[control.name] ?? control.standard}
          onchange={(value) => onchange({ settings: { ...settings, [control.name]: value } })}
        />
      {/each}
      <NumberControl control={MIX} value={step.mix ?? 100} onchange={(mix) => onchange({ mix })} />
    </div>
  {/if}
</li>
