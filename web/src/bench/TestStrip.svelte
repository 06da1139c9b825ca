<script lang="ts">
  import Chart, { type Line } from "../lib/Chart.svelte";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.strip);
  const control = $derived(desk.control);
  const rungs = $derived(desk.strip?.rungs ?? []);
  const alike = $derived(desk.strip?.left.unit === desk.strip?.lost.unit);
  const lines = $derived.by((): Line[] => [
    { name: desk.strip?.left.title ?? "", values: rungs.map((r) => r.left) },
    {
      name: desk.strip?.lost.title ?? "",
      values: rungs.map((r) => r.lost),
      dash: [5, 3],
      scale: alike ? "y" : "other",
    },
  ]);

  /** A unit short enough to stand behind a number in a narrow place. */
  function short(unit: string): string {
    return unit.startsWith("%") ? " %" : "";
  }

  function told(value: number): string {
    return value >= 99.5 ? value.toFixed(0) : value.toFixed(1);
  }
</script>

{#if control}
  <section
    class="absolute inset-0 overflow-y-auto bg-base-100 p-2"
    aria-labelledby="strip-title"
    data-testid="strip"
  >
    <div class="flex items-baseline gap-3 pb-1.5">
      <h2 id="strip-title" class="font-semibold">
        Test strip: {control.title} of step {desk.step + 1}, frame {bench.n}
      </h2>
      <p class="grow text-[13px] text-quiet">
        {desk.strip?.about ?? ""}
      </p>
      <button class="btn btn-xs" onclick={() => desk.close()}>Close</button>
    </div>
    {#if desk.strip}
      {@const strip = desk.strip}
      <ol class="grid grid-cols-4 gap-2">
        {#each rungs as rung, k (rung.value)}
          <li>
            <button
              class={[
                "block w-full border-2 text-left",
                k === strip.stop ? "border-white" : "border-transparent",
              ]}
              onclick={() => desk.take(rung.value)}
              title={`Take ${rung.value} ${control.unit}`}
            >
              <img
                src={desk.address(rung.value)}
                alt={`${control.title} at ${rung.value} ${control.unit}`}
                class="block w-full bg-surround"
                style={`aspect-ratio:${desk.region.width}/${desk.region.height};image-rendering:pixelated`}
              />
              <span class="flex items-baseline gap-2 px-1 pt-0.5">
                <span class="grow figure font-semibold">{rung.value} {control.unit}</span>
                {#if k === strip.stop}<span class="text-[13px] font-semibold">suggested stop</span>{/if}
              </span>
              <span class="flex justify-between px-1 pb-0.5 text-[13px] whitespace-nowrap">
                <span
                  >{strip.left.title}
                  <span class="figure">{told(rung.left)}{short(strip.left.unit)}</span></span
                >
                <span
                  >{strip.lost.title}
                  <span class="figure">{told(rung.lost)}{short(strip.lost.unit)}</span></span
                >
              </span>
            </button>
          </li>
        {/each}
        <li>
          <Chart
            x={rungs.map((rung) => rung.value)}
            xName={control.unit}
            {lines}
            height={128}
            label={`${strip.left.title} left against ${strip.lost.title}`}
            mark={rungs[strip.stop]?.value ?? null}
          />
          <p class="text-[13px]">
            Line: {strip.left.title} left, {strip.left.unit}. Dashes: {strip.lost.title}{alike
              ? " lost"
              : ""}, {strip.lost.unit}{alike ? "" : ", read on the right"}.
          </p>
          <p class="pt-1 text-[13px] text-quiet">{strip.reason}</p>
        </li>
      </ol>
    {:else}
      <p role="status">Trying seven values …</p>
    {/if}
  </section>
{/if}
