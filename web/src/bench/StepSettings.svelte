<script lang="ts">
  import type { Step, Treatment } from "../api/client";
  import type { Bench } from "./bench.svelte";
  import CurveControl from "./CurveControl.svelte";
  import ChoiceControl from "./ChoiceControl.svelte";
  import MarkList from "./MarkList.svelte";
  import NumberControl from "./NumberControl.svelte";
  import NumbersControl from "./NumbersControl.svelte";
  import { pixelAt } from "./pointer.svelte";
  import ReachEditor from "./ReachEditor.svelte";
  import {
    apart,
    applying,
    CHANNELS,
    choicesOf,
    controlsOf,
    MIX,
    numbersOf,
    type Control,
    type Numbers,
  } from "./schema";

  interface Props {
    bench: Bench;
    index: number;
    step: Step;
    treatment: Treatment;
  }
  const { bench, index, step, treatment }: Props = $props();
  /** Most people need two settings; the others are one click away. */
  const [FIRST, FEW] = [2, 3];
  let further = $state(false);
  const settings = $derived((step.settings ?? {}) as Record<string, number | string | boolean | number[]>);
  const parameters = $derived(applying(treatment.parameters, settings));
  const controls = $derived(controlsOf(parameters));
  const sorted = $derived(apart(controls));
  const first = $derived(sorted.alone.length > FEW ? FIRST : FEW);
  const choices = $derived(choicesOf(parameters, bench.looks.luts));
  const numbers = $derived(numbersOf(parameters));
  const channels = $derived((step.channels ?? {}) as Record<string, number>);
  const states = $derived(bench.version?.states?.[index] ?? []);
  const last = $derived((bench.version?.plan.steps?.length ?? 1) - 1);
  let tried = $state("");
  $effect(() => {
    if (!controls.some((c) => c.name === tried)) tried = controls[0]?.name ?? "";
  });

  function tryOut() {
    const control = controls.find((c) => c.name === tried);
    if (control) void bench.strip.start(index, control);
  }

  function pickOf(numbers: Numbers): string {
    return `${index} ${numbers.name}`;
  }

  /** Take a point, or the source's colour there, from a click on the picture. */
  function pick(numbers: Numbers) {
    const name = pickOf(numbers);
    const set = (value: number[]) => change({ settings: { ...settings, [numbers.name]: value } });
    const colour = async (x: number, y: number) => {
      const pixel = await pixelAt(bench, x, y);
      if (pixel) set(pixel.source);
    };
    const take = (x: number, y: number) => (numbers.parts.length === 2 ? set([x, y]) : void colour(x, y));
    bench.pick = bench.pick?.name === name ? null : { name, take };
  }

  function change(part: Partial<Step>) {
    bench.versions.changeStep(index, part);
  }
</script>

{#snippet amounts(shown: Control[])}
  {#each shown as control (control.name)}
    <NumberControl
      {control}
      value={Number(settings[control.name] ?? control.standard)}
      onchange={(value) => change({ settings: { ...settings, [control.name]: value } })}
    />
  {/each}
{/snippet}

{#if bench.version?.works_in?.[index]}
  <p class="text-[13px] text-quiet">{bench.version.works_in[index]}</p>
{/if}
{#if states.length}
  {#each states as said (said)}<p class="text-[13px] text-quiet">{said}</p>{/each}
{:else}
  <p class="text-[13px] text-quiet">{step.reason || treatment.parameters.description}</p>
{/if}
<div class="pt-1.5" data-settings={step.kind}>
  {@render amounts(sorted.alone.slice(0, first))}
  {#each choices as choice (choice.name)}
    <ChoiceControl
      {choice}
      value={(settings[choice.name] ?? choice.standard) as string | boolean}
      onchange={(value) => change({ settings: { ...settings, [choice.name]: value } })}
    />
  {/each}
  {#each numbers as several (several.name)}
    <NumbersControl
      numbers={several}
      value={(settings[several.name] ?? several.standard) as number[]}
      onchange={(value) => change({ settings: { ...settings, [several.name]: value } })}
      picking={bench.pick?.name === pickOf(several)}
      pick={() => pick(several)}
    />
  {/each}
  {#each sorted.curves as curve (curve.title)}
    <CurveControl
      {curve}
      values={curve.points.map((point) => Number(settings[point.name] ?? point.standard))}
      onchange={(name, value) => change({ settings: { ...settings, [name]: value } })}
    />
  {/each}
  {#if sorted.alone.length > first}
    <details class="border-t border-rule py-1" bind:open={further}>
      <summary class="cursor-pointer">Further settings: {sorted.alone.length - first}</summary>
      {@render amounts(sorted.alone.slice(first))}
    </details>
  {/if}
  {#if treatment.views.length || treatment.course || treatment.marks}
    <div class="flex flex-wrap gap-1.5 py-1">
      {#if treatment.marks}
        {@const showing = bench.marks.step === index}
        <button
          class={["btn btn-xs", showing && "btn-active"]}
          aria-pressed={showing}
          title="Each single one that was found in the frame on the screen"
          onclick={() => bench.marks.toggle(index)}>List them</button
        >
      {/if}
      {#if treatment.course}
        {@const showing = bench.courses.step === index}
        <button
          class={["btn btn-xs", showing && "btn-active"]}
          aria-pressed={showing}
          title="What it changes from frame to frame, under the picture"
          onclick={() => bench.courses.toggle(index)}>Show its curve</button
        >
      {/if}
      {#each treatment.views as view (view.name)}
        {@const showing = bench.view === "own" && bench.own.step === index && bench.own.name === view.name}
        <button
          class={["btn btn-xs", showing && "btn-active"]}
          aria-pressed={showing}
          title={view.help}
          onclick={() => bench.toggleOwn(index, view.name)}>Show {view.title.toLowerCase()}</button
        >
      {/each}
    </div>
  {/if}
  {#if bench.marks.step === index}<MarkList {bench} />{/if}
  {#if !treatment.reshapes}
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
    {#if controls.length}<div class="flex items-center gap-1.5 border-t border-rule pt-1.5">
        <select class="select grow select-xs" bind:value={tried} aria-label="Setting to try">
          {#each controls as control (control.name)}<option value={control.name}>{control.title}</option
            >{/each}
        </select>
        <button class="btn btn-xs" onclick={tryOut}>Test strip</button>
      </div>{/if}
  {/if}
  <div class="flex gap-1 pt-2">
    <button class="btn btn-xs" onclick={() => bench.handover.copy(step)}>Copy</button>
    <button class="btn btn-xs" onclick={() => bench.versions.repeatStep(index)}>Repeat</button>
    <button class="btn btn-xs" disabled={index === 0} onclick={() => bench.moveStep(index, index - 1)}
      >Earlier</button
    >
    <button class="btn btn-xs" disabled={index >= last} onclick={() => bench.moveStep(index, index + 1)}
      >Later</button
    >
    <span class="grow"></span>
    <button class="btn btn-xs" onclick={() => bench.versions.dropStep(index)}>Remove</button>
  </div>
</div>
