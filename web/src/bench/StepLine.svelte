<script lang="ts">
  import type { Step, Treatment } from "../api/client";
  import type { Bench } from "./bench.svelte";
  import { applying, CHANNELS, controlsOf, typedWithin } from "./schema";

  interface Props {
    bench: Bench;
    index: number;
    step: Step;
    treatment: Treatment;
  }
  const { bench, index, step, treatment }: Props = $props();
  const main = $derived(controlsOf(applying(treatment.parameters, step.settings ?? {}))[0]);
  const value = $derived(Number(step.settings?.[main?.name ?? ""] ?? main?.standard));
  const channels = $derived((step.channels ?? {}) as Record<string, number>);
  const advice = $derived(bench.version?.advice[index]);
  const open = $derived(bench.layout.isOpen({ step: index }));
  const marks = $derived(
    [
      step.mix !== undefined && step.mix !== 100 ? `mix ${step.mix} %` : "",
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

  function set(amount: number) {
    if (main)
      bench.versions.changeStep(index, {
        settings: { ...step.settings, [main.name]: amount },
      });
  }

  function type(text: string) {
    const typed = main && typedWithin(main, text);
    if (typed != null) set(typed);
  }
</script>

<div class={["pt-0.5", open && "-mx-3 bg-base-200 px-3"]} data-step={step.kind}>
  <div class="flex items-center gap-2">
    <input
      type="checkbox"
      class="checkbox checkbox-xs"
      checked={step.enabled ?? true}
      onchange={(event) => bench.versions.changeStep(index, { enabled: event.currentTarget.checked })}
      aria-label={`Use ${treatment.title}`}
    />
    <button
      class="min-h-6 min-w-0 grow truncate text-left underline decoration-rule underline-offset-2 hover:decoration-current"
      title={step.reason || (treatment.parameters.description as string)}
      onclick={() => bench.layout.toggle({ step: index })}
      aria-expanded={open}>{index + 1}. {treatment.title}</button
    >
    {#if marks.length}<span class="text-[13px] whitespace-nowrap text-quiet">{marks.join(", ")}</span>{/if}
    <span aria-hidden="true" class="text-quiet">{open ? "◂" : "▸"}</span>
  </div>
  {#if main}
    <div class="grid grid-cols-[5.6rem_1fr_3.2rem_1.4rem_3rem] items-center gap-x-1.5" title={main.help}>
      <span class="pl-6 text-[13px] leading-4 break-words text-quiet">{main.title}</span>
      <input
        class="amount w-full"
        type="range"
        min={main.least}
        max={main.most}
        step={main.step}
        {value}
        aria-label={`${treatment.title}, ${main.title}, slider`}
        oninput={(event) => set(Number(event.currentTarget.value))}
      />
      <input
        class="input w-full text-right figure input-xs"
        inputmode="decimal"
        aria-label={`${treatment.title}, ${main.title}${main.unit ? `, ${main.unit}` : ""}`}
        {value}
        onchange={(event) => type(event.currentTarget.value)}
      />
      <span class="truncate text-[13px] text-quiet">{main.unit}</span>
      {#if !treatment.reshapes}
        <button
          class="btn px-1.5 btn-xs"
          title={`The picture at several strengths of ${main.title.toLowerCase()}, side by side`}
          onclick={() => void bench.strip.start(index, main)}>Strip</button
        >
      {/if}
    </div>
  {/if}
  {#if advice}<p class="border-l-2 border-neutral pl-2 text-[13px]" data-testid="advice">{advice}</p>{/if}
</div>
