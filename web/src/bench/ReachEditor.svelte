<script lang="ts">
  import type { Detail, HueSample, Reach, Tones } from "../api/client";
  import type { Bench } from "./bench.svelte";
  import NumberControl from "./NumberControl.svelte";
  import { controlsOf } from "./schema";

  const { bench, step }: { bench: Bench; step: number } = $props();
  const desk = $derived(bench.reach);
  const reach = $derived(desk.of(step));
  const showing = $derived(bench.view === "reach" && desk.step === step);
  const mine = $derived(desk.open && desk.step === step);

  const KIND = { ellipse: "Ellipse", polygon: "Polygon" } as const;

  function controls(part: string) {
    return controlsOf(desk.parts[part] ?? {});
  }

  function valueOf(holder: object | null | undefined, name: string, standard: number): number {
    return ((holder ?? {}) as Record<string, number>)[name] ?? standard;
  }

  function set(change: Partial<Reach>) {
    desk.change(step, change);
  }

  function take() {
    desk.step = step;
    desk.open = true;
  }

  function pick(kind: "add" | "remove") {
    take();
    desk.picking = desk.picking === kind ? null : kind;
  }

  function hueLine(hue: HueSample): string {
    return `${hue.remove ? "Without" : "Only"} hue ${(hue.hue_deg ?? 0).toFixed(0)}° ± ${(hue.width_deg ?? 0).toFixed(0)}°`;
  }
</script>

{#snippet numbers(
  part: string,
  holder: object | null | undefined,
  onchange: (name: string, value: number) => void,
)}
  {#each controls(part) as control (control.name)}
    <NumberControl
      {control}
      value={valueOf(holder, control.name, control.standard)}
      onchange={(value) => onchange(control.name, value)}
    />
  {/each}
{/snippet}

{#snippet tick(label: string, checked: boolean, onchange: (on: boolean) => void)}
  <label class="flex items-center gap-2 pt-1.5">
    <input
      type="checkbox"
      class="checkbox checkbox-xs"
      {checked}
      onchange={(event) => onchange(event.currentTarget.checked)}
    />
    {label}
  </label>
{/snippet}

<section class="mt-1.5 border-t border-rule pt-1" aria-label="Reach" data-testid="reach">
  <div class="flex items-center gap-2">
    <h3 class="grow font-semibold">Reach</h3>
    <button
      class={["btn btn-xs", showing && "btn-active btn-neutral"]}
      aria-pressed={showing}
      onclick={() => {
        take();
        desk.toggleMatte(step);
      }}>Show matte</button
    >
  </div>
  <p class="text-[13px] text-quiet">White is where the step acts. The parts are combined.</p>

  {@render tick("Only some tones", reach.tones != null, (on) =>
    set({ tones: on ? desk.standard<Tones>("tones") : null }),
  )}
  {#if reach.tones}
    {@const tones = reach.tones}
    {@render numbers("tones", tones, (name, value) => set({ tones: { ...tones, [name]: value } }))}
  {/if}

  <div class="flex items-center gap-2 pt-1.5">
    <span class="grow">Colours</span>
    <button class={["btn btn-xs", mine && desk.picking === "add" && "btn-active"]} onclick={() => pick("add")}
      >{mine && desk.picking === "add" ? "Click on the picture" : "Add a colour"}</button
    >
    <button
      class={["btn btn-xs", mine && desk.picking === "remove" && "btn-active"]}
      onclick={() => pick("remove")}
      >{mine && desk.picking === "remove" ? "Click on the picture" : "Take one away"}</button
    >
  </div>
  {#each reach.hues ?? [] as hue, k (k)}
    <details class="border-b border-rule" data-testid="hue">
      <summary class="flex cursor-pointer items-baseline gap-2 py-0.5">
        <span class="grow">{hueLine(hue)} <span aria-hidden="true" class="text-quiet">▸</span></span>
        <button
          class="text-[13px] text-quiet hover:underline"
          onclick={() => set({ hues: (reach.hues ?? []).toSpliced(k, 1) })}>Drop</button
        >
      </summary>
      {@render numbers("huesample", hue, (name, value) => desk.changeHue(step, k, { [name]: value }))}
    </details>
  {/each}

  <div class="flex items-center gap-2 pt-1.5">
    <span class="grow">Shapes</span>
    {#each ["ellipse", "polygon"] as const as kind (kind)}
      <button
        class="btn btn-xs"
        onclick={() => {
          take();
          desk.addShape(step, kind);
        }}>{KIND[kind]}</button
      >
    {/each}
  </div>
  {#each reach.shapes ?? [] as shape, k (k)}
    {@const here = shape.keys.some((key) => key.frame === bench.n)}
    <div class="border-b border-rule py-1" data-testid="shape">
      <div class="flex items-center gap-2">
        <button class="grow text-left" onclick={take}>{KIND[shape.kind]} {k + 1}</button>
        <label class="flex items-center gap-1 text-[13px]">
          <input
            type="checkbox"
            class="checkbox checkbox-xs"
            checked={shape.invert}
            onchange={(event) => desk.changeShape(step, k, { invert: event.currentTarget.checked })}
          />
          keep out
        </label>
        <button class="text-[13px] text-quiet hover:underline" onclick={() => desk.dropShape(step, k)}
          >Drop</button
        >
      </div>
      {@render numbers("shape", shape, (name, value) => desk.changeShape(step, k, { [name]: value }))}
      <p class="flex items-baseline gap-2 text-[13px]">
        <span class="grow text-quiet">
          {shape.keys.length === 1 ? "stands still" : `moves over ${shape.keys.length} keys`}
        </span>
        {#if here && shape.keys.length > 1}
          <button class="btn btn-xs" onclick={() => desk.dropKey(step, k)}>Drop key at frame {bench.n}</button
          >
        {:else if !here}
          <button class="btn btn-xs" onclick={() => desk.keyHere(step, k)}>Key at frame {bench.n}</button>
        {/if}
      </p>
    </div>
  {/each}

  <label class="flex items-center gap-2 pt-1.5">
    <span class="grow">Detail</span>
    <select
      class="select w-40 select-xs"
      value={reach.detail?.where ?? ""}
      onchange={(event) => {
        const where = event.currentTarget.value as "" | "edges" | "flats";
        set({ detail: where ? { ...desk.standard<Detail>("detail"), ...reach.detail, where } : null });
      }}
    >
      <option value="">edges and flats</option>
      <option value="edges">edges only</option>
      <option value="flats">flats only</option>
    </select>
  </label>
  {#if reach.detail}
    {@const detail = reach.detail}
    {@render numbers("detail", detail, (name, value) => set({ detail: { ...detail, [name]: value } }))}
  {/if}

  {@render tick("Turn round: act everywhere else", reach.invert ?? false, (on) => set({ invert: on }))}
  <details class="pt-1">
    <summary class="cursor-pointer">Clean-up of the matte</summary>
    {@render numbers("cleanup", reach.cleanup, (name, value) =>
      set({ cleanup: { ...reach.cleanup, [name]: value } as Reach["cleanup"] }),
    )}
  </details>
</section>
