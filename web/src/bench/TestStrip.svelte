<script lang="ts">
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.strip);
  const control = $derived(desk.control);
  const rungs = $derived(desk.strip?.rungs ?? []);
  const mostLeft = $derived(Math.max(...rungs.map((r) => r.left), 0.1));
  const mostLost = $derived(Math.max(...rungs.map((r) => r.lost), 0.1));
  const alike = $derived(desk.strip?.left.unit === desk.strip?.lost.unit);
  const most = $derived(Math.max(mostLeft, mostLost));
  const CHART = { width: 232, height: 128, left: 30, bottom: 18 };

  function x(index: number): number {
    return CHART.left + (index / Math.max(rungs.length - 1, 1)) * (CHART.width - CHART.left - 14);
  }

  /** Height of a part of what the chart goes up to. */
  function y(part: number): number {
    return CHART.height - CHART.bottom - part * (CHART.height - CHART.bottom - 8);
  }

  function line(of: (rung: (typeof rungs)[number]) => number): string {
    return rungs.map((rung, k) => `${x(k).toFixed(1)},${y(of(rung)).toFixed(1)}`).join(" ");
  }

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
          <svg
            viewBox={`0 0 ${CHART.width} ${CHART.height}`}
            class="w-full"
            aria-label={`${strip.left.title} left against ${strip.lost.title}`}
          >
            <line x1={CHART.left} x2={CHART.width - 14} y1={y(0)} y2={y(0)} stroke="var(--color-rule)" />
            <line x1={x(strip.stop)} x2={x(strip.stop)} y1="4" y2={y(0)} stroke="white" stroke-width="3" />
            <polyline
              points={line((r) => r.left / (alike ? most : mostLeft))}
              fill="none"
              stroke="currentColor"
              stroke-width="1.5"
            />
            <polyline
              points={line((r) => r.lost / (alike ? most : mostLost))}
              fill="none"
              stroke="currentColor"
              stroke-width="1.5"
              stroke-dasharray="5 3"
            />
            <text x={CHART.left - 3} y="12" text-anchor="end" font-size="10"
              >{told(alike ? most : mostLeft)}</text
            >
            <text x={CHART.left - 3} y={y(0)} text-anchor="end" font-size="10">0</text>
            {#each rungs as rung, k (rung.value)}
              {#if k % 2 === 0}
                <text x={x(k)} y={CHART.height - 5} text-anchor="middle" font-size="10">{rung.value}</text>
              {/if}
            {/each}
          </svg>
          <p class="text-[13px]">
            Line: {strip.left.title} left, {strip.left.unit}. Dashes: {strip.lost.title}{alike
              ? " lost"
              : ""}, {strip.lost.unit}{alike ? "" : mostLost > 0.1 ? `, up to ${told(mostLost)}` : " (none)"}.
          </p>
          <p class="pt-1 text-[13px] text-quiet">{strip.reason}</p>
        </li>
      </ol>
    {:else}
      <p role="status">Trying seven values …</p>
    {/if}
  </section>
{/if}
