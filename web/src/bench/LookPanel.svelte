<script lang="ts">
  import type { Cdl, Managed } from "../api/client";
  import Chart from "../lib/Chart.svelte";
  import type { Bench } from "./bench.svelte";
  import NumberControl from "./NumberControl.svelte";
  import type { Control } from "./schema";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.looks);
  const look = $derived(desk.look);
  const cdl = $derived(look?.cdl);
  const FULL = 1023;

  const ROWS = [
    { name: "slope", standard: 1 },
    { name: "offset", standard: 0 },
    { name: "power", standard: 1 },
  ] as const;

  function changeCdl(row: "slope" | "offset" | "power", channel: number, text: string) {
    const value = Number(text.replace(",", "."));
    if (!cdl || !Number.isFinite(value) || text.trim() === "") return;
    const values = [...(cdl[row] ?? [])].map((v, k) => (k === channel ? value : v));
    desk.changeCdl({ [row]: values } as Partial<Cdl>);
  }

  function manage(on: boolean) {
    void desk.offer().then(() => desk.change({ managed: on ? (desk.management?.suggested ?? null) : null }));
  }

  function changeManaged(part: Partial<Managed>) {
    if (!look?.managed) return;
    const managed = { ...look.managed, ...part };
    const views = desk.management?.spaces.displays[managed.display] ?? [];
    desk.change({
      managed: { ...managed, view: views.includes(managed.view) ? managed.view : (views[0] ?? "") },
    });
  }

  /** Another configuration knows other names: its first ones are taken. */
  async function changeConfig(config: string) {
    await desk.offer(config);
    const spaces = desk.management?.spaces;
    const [display, views] = Object.entries(spaces?.displays ?? {})[0] ?? [];
    if (spaces && display && views?.[0])
      desk.change({ managed: { config, input: spaces.inputs[0] ?? "", display, view: views[0] } });
  }

  $effect(() => {
    if (look?.managed) void desk.offer(look.managed.config);
  });

  function fileOf(event: Event): File | undefined {
    return (event.currentTarget as HTMLInputElement).files?.[0];
  }

  const told = $derived(desk.noise);
  /** The measured curve and the one under the look, each over its own levels: both over all of them. */
  const noiseLevels = $derived(
    [...new Set([...(told?.level_cv ?? []), ...(told?.shown_level_cv ?? [])])]
      .filter((level) => level >= 0 && level <= FULL)
      .sort((a, b) => a - b),
  );
  const over = (levels: number[], noise: number[]) =>
    noiseLevels.map((level) => noise[levels.indexOf(level)] ?? null);
</script>

{#snippet numbers(controls: Control[], values: object, change: (part: Record<string, number>) => void)}
  {#each controls as control (control.name)}
    <NumberControl
      {control}
      value={(values as Record<string, number>)[control.name] ?? control.standard}
      onchange={(value) => change({ [control.name]: value })}
    />
  {/each}
{/snippet}

{#if look && cdl}
  <section aria-label="Look" class="pt-2" data-testid="look">
    <label class="flex items-center gap-2">
      <input type="checkbox" class="checkbox checkbox-xs" bind:checked={desk.on} />
      <span class="font-semibold">Show picture and scopes under this look</span>
    </label>
    <p class="pb-1 text-[13px] text-quiet">
      Measuring and treating go by the picture’s own values, whatever the look.
    </p>
    {@render numbers(desk.controls.look, look, (part) => desk.change(part))}
    {@render numbers(desk.controls.cdl, cdl, (part) => desk.changeCdl(part))}

    <details class="border-t border-rule py-1">
      <summary class="cursor-pointer font-semibold">ASC CDL</summary>
      <div class="grid grid-cols-[4rem_1fr_1fr_1fr] items-center gap-1 py-1">
        <span></span>
        {#each ["R", "G", "B"] as name (name)}<span class="text-center text-[13px]">{name}</span>{/each}
        {#each ROWS as row (row.name)}
          <span class="first-letter:uppercase">{row.name}</span>
          {#each [0, 1, 2] as channel (channel)}
            <input
              class="input w-full text-right figure input-xs"
              inputmode="decimal"
              aria-label={`${row.name} ${"RGB"[channel]}`}
              value={cdl[row.name]?.[channel] ?? row.standard}
              onchange={(event) => changeCdl(row.name, channel, event.currentTarget.value)}
            />
          {/each}
        {/each}
      </div>
      <div class="flex flex-wrap items-center gap-1.5 pt-1">
        <label class="btn btn-xs">
          Read a file
          <input
            type="file"
            class="sr-only"
            accept=".cdl,.cc,.ccc"
            onchange={(event) => {
              const file = fileOf(event);
              if (file) void desk.readCdl(file);
            }}
          />
        </label>
        {#each [".cdl", ".cc", ".ccc"] as ending (ending)}
          <a class="btn btn-xs" href={`/api/shots/${bench.shot?.id}/look/cdl?ending=${ending}`}
            >Save {ending}</a
          >
        {/each}
        <button
          class="btn btn-xs"
          onclick={() =>
            desk.change({ cdl: { slope: [1, 1, 1], offset: [0, 0, 0], power: [1, 1, 1], saturation: 1 } })}
          >Reset</button
        >
      </div>
      {#each desk.offered as correction (correction.id)}
        <button class="block underline" onclick={() => desk.change({ cdl: correction.cdl })}
          >Take {correction.id}</button
        >
      {/each}
    </details>

    <div class="flex items-center gap-1.5 border-t border-rule py-1.5">
      <label for="lut" class="font-semibold">LUT</label>
      <select
        id="lut"
        class="select grow select-xs"
        value={look.lut ?? ""}
        onchange={(event) => desk.change({ lut: event.currentTarget.value })}
      >
        <option value="">None</option>
        {#each desk.luts as lut (lut.id)}<option value={lut.path}>{lut.name}</option>{/each}
      </select>
      <label class="btn btn-xs">
        Add
        <input
          type="file"
          class="sr-only"
          accept=".cube,.clf"
          onchange={(event) => {
            const file = fileOf(event);
            if (file) void desk.addLut(file);
          }}
        />
      </label>
    </div>

    <p class="flex flex-wrap items-center gap-1.5 pb-1.5 text-[13px]">
      Save the whole look:
      {#each [33, 65] as size (size)}
        <a class="btn btn-xs" href={`/api/shots/${bench.shot?.id}/look/cube?size=${size}`}
          >.cube, {size} points</a
        >
      {/each}
    </p>

    <div class="border-t border-rule py-1.5">
      <label class="flex items-center gap-2">
        <input
          type="checkbox"
          class="checkbox checkbox-xs"
          checked={look.managed != null}
          onchange={(event) => manage(event.currentTarget.checked)}
        />
        <span class="font-semibold">Colour management</span>
      </label>
      {#if look.managed && desk.management}
        {@const spaces = desk.management.spaces}
        <div class="grid grid-cols-[4.5rem_1fr] items-center gap-1 pt-1">
          <label for="ocio-input">Footage</label>
          <select
            id="ocio-input"
            class="select w-full select-xs"
            value={look.managed.input}
            onchange={(event) => changeManaged({ input: event.currentTarget.value })}
          >
            {#each spaces.inputs as name (name)}
              <option value={name}
                >{name}{name === desk.management.suggested.input ? " (by the file’s tags)" : ""}</option
              >
            {/each}
          </select>
          <label for="ocio-display">Display</label>
          <select
            id="ocio-display"
            class="select w-full select-xs"
            value={look.managed.display}
            onchange={(event) => changeManaged({ display: event.currentTarget.value })}
          >
            {#each Object.keys(spaces.displays) as name (name)}<option value={name}>{name}</option>{/each}
          </select>
          <label for="ocio-view">View</label>
          <select
            id="ocio-view"
            class="select w-full select-xs"
            value={look.managed.view}
            onchange={(event) => changeManaged({ view: event.currentTarget.value })}
          >
            {#each spaces.displays[look.managed.display] ?? [] as name (name)}
              <option value={name}>{name}</option>
            {/each}
          </select>
        </div>
        <p class="pt-1 text-[13px] text-quiet">{spaces.name}</p>
        <input
          class="input mt-1 w-full input-xs"
          aria-label="Path of another configuration (.ocio)"
          placeholder="Path of another configuration (.ocio)"
          value={look.managed.config ?? ""}
          onchange={(event) => void changeConfig(event.currentTarget.value.trim())}
        />
      {/if}
    </div>

    {#if told}
      <h2 class="border-t border-rule pt-1.5 font-semibold">Luma noise under the look</h2>
      <div data-testid="noise-under-look">
        <Chart
          x={noiseLevels}
          xName="level, CV"
          height={130}
          label="Noise against level, measured and under the look, CV"
          lines={[
            { name: "as measured", values: over(told.level_cv, told.noise_cv) },
            { name: "under the look", values: over(told.shown_level_cv, told.shown_noise_cv), dash: [5, 3] },
          ]}
        />
      </div>
      <p class="text-[13px] text-quiet">
        Noise against level, in CV; what it becomes lies at the level where the look puts it.
      </p>
    {/if}
  </section>
{/if}
