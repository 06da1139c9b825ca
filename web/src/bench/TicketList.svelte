<script lang="ts">
  import { percent, short } from "../lib/format";
  import type { Bench } from "./bench.svelte";
  import PlanRow from "./PlanRow.svelte";
  import StepLine from "./StepLine.svelte";
  import { linesOf } from "./ticket";

  const { bench }: { bench: Bench } = $props();
  const report = $derived(bench.shot?.report);
  const steps = $derived(bench.version?.plan.steps ?? []);
  const served = $derived(
    new Set(steps.flatMap((step) => bench.treatments.find((t) => t.kind === step.kind)?.treats ?? [])),
  );
  const standingOf = $derived(new Map(bench.standings.map((s) => [s.kind, s])));
  const measuredOutside = $derived(
    new Set((bench.shot?.measured ?? []).filter((s) => s.outside).map((s) => s.kind)),
  );
  /** Findings that ask for attention, or that a step is there for; the rest is one line. */
  const shownFindings = $derived(
    (report?.findings ?? []).filter((f) => measuredOutside.has(f.kind) || served.has(f.kind)),
  );
  const quietFindings = $derived((report?.findings ?? []).filter((f) => !shownFindings.includes(f)));
  const lines = $derived(linesOf(shownFindings, steps, bench.treatments));
  let added = $state("grain");
  const estimated = $derived(bench.left?.left.basis === "estimate");
  /** Findings that flats tell; the others are measured by what found them. */
  const BY_FLATS = new Set(["noise", "colour noise"]);
  /** Findings that are still being measured in what the plan leaves. */
  const coming = $derived(
    bench.left
      ? new Set(bench.left.left.coming)
      : bench.version && !bench.version.problem
        ? served
        : new Set(),
  );
</script>

{#if bench.shot?.problem}
  <p class="border-b border-rule py-2" role="alert" data-testid="problem">{bench.shot.problem}</p>
{/if}

{#if bench.measuring && bench.shot?.survey}
  <div class="border-b border-rule py-2">
    <p>{bench.shot.survey.state === "queued" ? "Waiting to be measured" : "Measuring"} …</p>
    <div class="flex items-center gap-2">
      <progress class="progress grow" max="1" value={bench.shot.survey.progress}></progress>
      <span class="figure whitespace-nowrap">{percent(bench.shot.survey.progress)}</span>
      <button class="btn btn-xs" onclick={bench.stopMeasuring}>Stop</button>
    </div>
  </div>
{/if}

{#if report}
  {#if !report.source.original}
    <details class="border-b border-rule py-1.5" data-testid="source">
      <summary class="cursor-pointer font-semibold"><span class="outside">Not the original?</span></summary>
      <p>{report.source.verdict}</p>
      <ul class="text-[13px] text-quiet">
        {#each report.source.evidence as line (line)}<li>{line}</li>{/each}
      </ul>
    </details>
  {/if}
  <ol>
    {#each lines as line (line.finding?.kind ?? line.steps[0])}
      <li class="border-b border-rule py-1">
        {#if line.finding}
          {@const finding = line.finding}
          {@const standing = standingOf.get(finding.kind)}
          {@const after = standing?.remaining}
          {@const outside = standing?.outside ?? false}
          {@const open = bench.layout.isOpen({ finding: finding.kind })}
          <div data-finding={finding.kind} class={[open && "-mx-3 bg-base-200 px-3"]}>
            <button
              class="flex min-h-6 w-full items-baseline gap-2 text-left"
              title="Go to where it was measured, and see what was measured"
              aria-expanded={open}
              onclick={() => {
                bench.goTo(finding.frame, finding.region);
                bench.layout.toggle({ finding: finding.kind });
              }}
            >
              <span class="grow font-semibold first-letter:uppercase">{finding.kind}</span>
              <span class="figure whitespace-nowrap">
                <span class={[after == null && outside && "outside"]}>{short(finding.value)}</span>
                {#if after != null}
                  →{estimated && BY_FLATS.has(finding.kind) ? " about " : " "}<span
                    class={[outside && "outside"]}
                    data-after={finding.kind}>{short(after)}</span
                  >
                {:else if coming.has(finding.kind)}
                  → <span title="Being measured in the result">…</span>
                {/if}
                {finding.unit}
              </span>
            </button>
            <p class="flex justify-between text-[13px] whitespace-nowrap text-quiet">
              <span
                >{outside ? "outside" : "inside"} tolerance {finding.tolerance}
                {finding.unit}</span
              >
              <span>sure {percent(finding.confidence)}</span>
            </p>
            {#if bench.toldByFile(finding.kind) && served.has(finding.kind)}
              <p class="text-[13px] text-quiet">Read off the file, so it stays: judge the result by eye.</p>
            {/if}
            {#if line.served.length}
              <p class="text-[13px] text-quiet">
                served by {line.served.length > 1 ? "steps" : "step"}
                {line.served.map((k) => k + 1).join(" and ")} too
              </p>
            {/if}
          </div>
        {/if}
        {#each line.steps as index (index)}
          {@const step = steps[index]}
          {@const treatment = bench.treatments.find((t) => t.kind === step?.kind)}
          {#if step && treatment}<StepLine {bench} {index} {step} {treatment} />{/if}
        {/each}
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
  </ol>
  <div class="flex items-center gap-2 py-1.5">
    <select class="select grow select-xs" bind:value={added} aria-label="Treatment to add">
      {#each bench.treatments as treatment (treatment.kind)}
        <option value={treatment.kind}>{treatment.title}</option>
      {/each}
    </select>
    <button class="btn btn-xs" disabled={!added} onclick={() => bench.addStep(added)}>Add step</button>
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
      No flat was found to measure the noise that is left by; its figures are what the steps count as left.
      Draw a patch on a flat and measure by it to be sure.
    </p>
  {/if}
{:else if !bench.measuring}
  <p class="py-3 text-quiet">
    Not measured yet. Measure finds the noise of this shot; nothing is changed by it.
  </p>
{/if}
