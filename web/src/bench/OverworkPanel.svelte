<script lang="ts">
  import { short } from "../lib/format";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.overwork);
  const report = $derived(desk.report);
  const MARKS = { fine: "", "look here": "overdone-light", "too far": "overdone" } as const;
</script>

<section aria-label="Overwork" class="pt-2" data-testid="overwork">
  <div class="flex gap-1.5">
    <button class="btn btn-xs" disabled={!bench.version || desk.judging} onclick={() => desk.judge("frame")}
      >Judge this frame</button
    >
    <button class="btn btn-xs" disabled={!bench.version || desk.judging} onclick={() => desk.judge("range")}
      >Judge {bench.player.shown ? "the loop" : "the shot"}</button
    >
  </div>
  {#if desk.judging}
    <p class="flex items-center gap-2 py-1.5" role="status">
      <span class="grow">Judging … the result is computed twice for it.</span>
      <button class="btn btn-xs" onclick={() => desk.stop()}>Stop</button>
    </p>
  {:else if report}
    <p class="py-1.5 font-semibold" data-verdict={report.verdict}>
      {#if MARKS[report.verdict]}<span
          class={["mr-1 inline-block h-3 w-6", MARKS[report.verdict]]}
          aria-hidden="true"
        ></span>{/if}{report.summary}
    </p>
    {#if desk.stale}<p class="pb-1 text-[13px]">The version has changed since; judge again.</p>{/if}
    <ul>
      {#each report.measures as m (m.kind)}
        <li class="border-t border-rule py-1" data-measure={m.kind}>
          <button
            class="flex w-full items-baseline gap-2 text-left"
            aria-pressed={desk.shown === m.kind}
            title={desk.shown === m.kind ? "Take the map away" : "Show where, on the picture"}
            onclick={() => desk.show(m.kind, m.frame)}
          >
            <span class={["grow", desk.shown === m.kind && "font-semibold underline"]}>{m.title}</span>
            <span class={["h-3 w-6 self-center", MARKS[m.verdict]]} aria-hidden="true"></span>
            <span class="text-[13px] whitespace-nowrap">{m.verdict}</span>
          </button>
          <p class="flex justify-between text-[13px] whitespace-nowrap">
            <span
              ><span class="figure">{short(m.value)}</span> of <span class="figure">{m.limit}</span>
              {m.unit}</span
            >
            <span class="text-quiet">frame <span class="figure">{m.frame}</span></span>
          </p>
          <p class="text-[13px] text-quiet">{m.detail || m.says}</p>
        </li>
      {/each}
    </ul>
    <p class="border-t border-rule pt-1 text-[13px] text-quiet">
      {report.frames.length > 1 ? "Frames" : "Frame"}
      {report.frames.join(", ")}; {desk.region.width}×{desk.region.height} px at {desk.region.x}, {desk.region
        .y}.
    </p>
  {:else}
    <p class="py-1.5 text-quiet">
      What the plan has damaged, measured without knowing the truth: structure in what was removed, lost
      texture, flatness, halos, casts, trails, boiling, flicker, lost points, ghosts, evened fades and shapes,
      borders.
    </p>
  {/if}
</section>
