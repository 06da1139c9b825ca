<script lang="ts">
  import { percent, short } from "../lib/format";
  import type { Bench } from "./bench.svelte";
  import LookPanel from "./LookPanel.svelte";
  import OverworkPanel from "./OverworkPanel.svelte";
  import ScopePanel from "./ScopePanel.svelte";
  import StillsPanel from "./StillsPanel.svelte";
  import CurveChart from "./CurveChart.svelte";
  import SpectrumPicture from "./SpectrumPicture.svelte";
  import { EVIDENCE } from "./layout.svelte";
  import ProfileChoice from "./ProfileChoice.svelte";

  const { bench }: { bench: Bench } = $props();
  const noise = $derived(bench.shot?.report?.noise);
  const spectrum = $derived(bench.shot?.spectrum);
  const usable = $derived(bench.readings.filter((reading) => reading.flat));
  const frames = $derived([...new Set(bench.readings.map((r) => r.patch.frame))].join(", "));
  const tab = $derived(bench.layout.evidence ? bench.layout.tab : "");
</script>

<div class="flex items-stretch border-t-2 border-dotted border-rule px-3 pt-1">
  <div class="flex grow" role="tablist" aria-label="Evidence">
    {#each EVIDENCE as name (name)}
      <button
        role="tab"
        aria-selected={tab === name}
        class={[
          "grow border-b-2 pb-1",
          tab === name ? "border-base-content font-semibold" : "border-transparent",
        ]}
        onclick={() => bench.layout.set({ tab: name, evidence: true })}>{name}</button
      >
    {/each}
  </div>
  <button
    class="w-6 text-quiet hover:text-base-content"
    aria-expanded={bench.layout.evidence}
    aria-label="Evidence"
    title={bench.layout.evidence ? "Fold the evidence away" : "Show the evidence"}
    onclick={() => bench.layout.set({ evidence: !bench.layout.evidence })}
    >{bench.layout.evidence ? "▾" : "▴"}</button
  >
</div>

<div class={["min-h-0 overflow-y-auto px-3", tab && "pb-3"]}>
  {#if tab === "Scopes"}<ScopePanel {bench} />{/if}
  {#if tab === "Look"}<LookPanel {bench} />{/if}
  {#if tab === "Overwork"}<OverworkPanel {bench} />{/if}
  {#if tab === "Stills"}<StillsPanel {bench} />{/if}

  {#if tab === "Noise"}
    {#if noise}
      <section aria-labelledby="curve-title" class="pt-2">
        <h2 id="curve-title" class="font-semibold">Noise against level</h2>
        <CurveChart
          curve={noise.curve}
          readings={usable}
          saved={bench.savedCurve}
          coded={noise.coded ?? null}
        />
        <p class="text-[13px] text-quiet">
          Grain size <span class="figure">{short(noise.grain_px)} px</span> · R
          <span class="figure">{short(noise.r_cv)}</span> · G <span class="figure">{short(noise.g_cv)}</span>
          · B
          <span class="figure">{short(noise.b_cv)} CV</span> · sure {percent(noise.confidence)}
        </p>
        {#if spectrum}
          <h2 class="pt-2 font-semibold">Spectrum of the noise</h2>
          <SpectrumPicture {spectrum} />
        {/if}
        <ProfileChoice {bench} />
      </section>
    {/if}

    <section aria-labelledby="patch-title" class="pt-3">
      <div class="flex items-baseline gap-2">
        <h2 id="patch-title" class="grow font-semibold">Patches</h2>
        <button
          class={["btn btn-xs", bench.drawing && "btn-active"]}
          aria-pressed={bench.drawing}
          onclick={() => (bench.drawing = !bench.drawing)}
        >
          {bench.drawing ? "Drag on the picture" : "Draw a patch"}
        </button>
      </div>
      <ul class="text-[13px]">
        {#each bench.readings as reading (reading)}
          <li class="border-b border-rule py-1" data-patch={reading.reason}>
            <div class="flex items-baseline gap-2">
              <button class="figure whitespace-nowrap underline" onclick={() => bench.go(reading.patch.frame)}
                >frame {reading.patch.frame}</button
              >
              <span class="grow whitespace-nowrap">
                <span class="figure">{reading.patch.width}×{reading.patch.height}</span> px, level
                <span class="figure">{reading.level_cv.toFixed(0)}</span> CV
              </span>
              <button
                class="text-quiet hover:underline"
                onclick={() => bench.dropPatch(reading)}
                aria-label="Drop this patch">Drop</button
              >
            </div>
            {#if reading.flat}
              luma <span class="figure">{short(reading.luma_cv)}</span> CV, colour
              <span class="figure">{short(reading.chroma_cv)}</span>
              CV, sure {percent(reading.confidence)}
            {:else}
              <span>{reading.advice}</span>
            {/if}
          </li>
        {:else}
          <li class="py-1 text-quiet">None. The curve was found from frame differences alone.</li>
        {/each}
      </ul>
      {#if bench.better}
        <p class="pt-1 text-[13px]" data-testid="better">
          Nearest flat: x <span class="figure">{bench.better.patch.x}</span>, y
          <span class="figure">{bench.better.patch.y}</span>,
          <span class="figure">{bench.better.patch.width}×{bench.better.patch.height}</span> px.
          <button class="btn btn-xs" onclick={() => bench.takeBetter()}>Take it</button>
        </p>
      {/if}
      {#if usable.length && bench.readings !== bench.shot?.report?.patches}
        <button
          class="btn mt-2 btn-xs"
          disabled={bench.measuring}
          onclick={() => bench.measure(usable.map((r) => r.patch))}
        >
          Measure by {usable.length === 1 ? "this patch" : `these ${usable.length} patches`} (frame {frames})
        </button>
      {/if}
    </section>
  {/if}
</div>
