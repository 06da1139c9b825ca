<script lang="ts">
  import type { Finding } from "../api/client";
  import { percent, percentOfScale, short } from "../lib/format";
  import type { Bench } from "./bench.svelte";
  import PlanRow from "./PlanRow.svelte";
  import StepRow from "./StepRow.svelte";

  const { bench }: { bench: Bench } = $props();
  const report = $derived(bench.shot?.report);
  const treated = $derived(new Set(bench.treatments.flatMap((t) => t.treats)));
  const standingOf = $derived(new Map(bench.standings.map((s) => [s.kind, s])));
  const measuredOutside = $derived(
    new Set((bench.shot?.measured ?? []).filter((s) => s.outside).map((s) => s.kind)),
  );
  /** Findings that ask for attention, or that a treatment is there for; the rest is one line. */
  const shownFindings = $derived(
    (report?.findings ?? []).filter((f) => measuredOutside.has(f.kind) || treated.has(f.kind)),
  );
  const quietFindings = $derived((report?.findings ?? []).filter((f) => !shownFindings.includes(f)));
  const steps = $derived(bench.version?.plan.steps ?? []);
  let added = $state("grain");
  const estimated = $derived(bench.left?.left.basis === "estimate");

  function spotBeside(finding: Finding, step: number) {
    const spots = finding.spots ?? [];
    const at = spots.findIndex(
      (s) => bench.marked?.frame === s.frame && bench.marked.x === s.x && bench.marked.y === s.y,
    );
    const spot = spots[at < 0 ? 0 : (at + step + spots.length) % spots.length];
    if (spot) bench.goTo(spot.frame, spot);
  }
</script>

{#if bench.shot?.problem}
  <p class="border-b border-rule py-2" role="alert" data-testid="problem">{bench.shot.problem}</p>
{/if}

{#if bench.measuring && bench.shot?.survey}
  <div class="border-b border-rule py-2">
    <p>{bench.shot.survey.state === "queued" ? "Waiting to be measured" : "Measuring"} …</p>
    <div class="flex items-center gap-2">
      <progress class="progress grow" max="1" value={bench.shot.survey.progress}></progress>
      <span class="figure">{percent(bench.shot.survey.progress)}</span>
      <button class="btn btn-xs" onclick={bench.stopMeasuring}>Stop</button>
    </div>
  </div>
{/if}

{#if report}
  {#if !report.source.original}
    <div class="border-b border-rule py-1.5" data-testid="source">
      <p class="font-semibold"><span class="outside">Not the original?</span></p>
      <p>{report.source.verdict}</p>
      <ul class="text-[13px] text-quiet">
        {#each report.source.evidence as line (line)}<li>{line}</li>{/each}
      </ul>
    </div>
  {/if}
  <ol>
    {#each shownFindings as finding (finding.kind)}
      {@const standing = standingOf.get(finding.kind)}
      {@const after = standing?.remaining}
      {@const outside = standing?.outside ?? false}
      <li class="border-b border-rule py-1.5" data-finding={finding.kind}>
        <button
          class="flex w-full items-baseline gap-2 text-left"
          title="Go to where it was measured"
          onclick={() => bench.goTo(finding.frame, finding.region)}
        >
          <span class="grow font-semibold first-letter:uppercase">{finding.kind}</span>
          <span class="figure whitespace-nowrap">
            <span class={[after == null && outside && "outside"]}>{short(finding.value)}</span>
            {#if after != null}
              →{estimated ? " about " : " "}<span class={[outside && "outside"]} data-after={finding.kind}
                >{short(after)}</span
              >
            {/if}
            {finding.unit}
          </span>
        </button>
        {#if finding.detail}<p class="text-[13px] text-quiet">{finding.detail}</p>{/if}
        {#if finding.spots?.length}
          <p class="flex gap-2 text-[13px]">
            <button class="underline" onclick={() => spotBeside(finding, -1)}>previous place</button>
            <button class="underline" onclick={() => spotBeside(finding, 1)}>next place</button>
            <span class="text-quiet">of {finding.spots.length} listed</span>
          </p>
        {/if}
        <p class="flex justify-between text-[13px] whitespace-nowrap text-quiet">
          {#if finding.unit === "CV"}<span>{percentOfScale(finding.value)} of full scale</span>{/if}
          <span>tolerance {finding.tolerance} {finding.unit}</span>
          <span>sure {percent(finding.confidence)}</span>
        </p>
      </li>
    {/each}
    {#if quietFindings.length}
      <li class="border-b border-rule py-1.5 text-[13px] text-quiet" data-testid="inside">
        <details>
          <summary class="cursor-pointer">Inside tolerance: {quietFindings.length} more</summary>
          <ul>
            {#each quietFindings as finding (finding.kind)}
              <li class="flex gap-2">
                <button
                  class="grow text-left hover:underline"
                  title={finding.detail}
                  onclick={() => bench.goTo(finding.frame, finding.region)}>{finding.kind}</button
                >
                <span class="figure whitespace-nowrap"
                  >{short(finding.value)} of {finding.tolerance} {finding.unit}</span
                >
              </li>
            {/each}
          </ul>
        </details>
      </li>
    {/if}
    {#each steps as step, index (index)}
      {@const treatment = bench.treatments.find((t) => t.kind === step.kind)}
      {#if treatment}
        <StepRow {bench} {index} {step} {treatment} />
      {/if}
    {/each}
  </ol>
  <div class="flex items-center gap-2 py-1.5">
    <select class="select grow select-xs" bind:value={added} aria-label="Treatment to add">
      {#each bench.treatments as treatment (treatment.kind)}
        <option value={treatment.kind}>{treatment.title}</option>
      {/each}
    </select>
    <button class="btn btn-xs" disabled={!added} onclick={() => bench.versions.addStep(added)}
      >Add step</button
    >
  </div>
  <PlanRow {bench} />
  {#if !bench.version}
    <p class="py-2 text-quiet">No plan yet. Propose makes the least treatment that meets the tolerances.</p>
  {:else if bench.version.problem}
    <p class="py-2" role="alert">{bench.version.problem}</p>
  {:else if bench.left?.said}
    <p class="py-2 text-quiet" data-testid="said">{bench.left.said}</p>
  {:else if estimated}
    <p class="py-2 text-[13px] text-quiet">
      No flat patch was found to measure what is left; the figures are what the steps count as left. Draw a
      patch on a plain area and measure by it to be sure.
    </p>
  {/if}
{:else if !bench.measuring}
  <p class="py-3 text-quiet">
    Not measured yet. Measure finds the noise of this shot; nothing is changed by it.
  </p>
{/if}
