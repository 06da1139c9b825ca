<script lang="ts">
  import type { Bench } from "./bench.svelte";
  import FieldsChoice from "./FieldsChoice.svelte";
  import FindingDetail from "./FindingDetail.svelte";
  import StepSettings from "./StepSettings.svelte";

  const { bench }: { bench: Bench } = $props();
  const opened = $derived(bench.layout.opened);
  const index = $derived(opened && "step" in opened ? opened.step : -1);
  const step = $derived(bench.version?.plan.steps?.[index]);
  const treatment = $derived(bench.treatments.find((t) => t.kind === step?.kind));
  const finding = $derived(
    opened && "finding" in opened
      ? bench.shot?.report?.findings.find((f) => f.kind === opened.finding)
      : undefined,
  );
  $effect(() => {
    if (opened && !treatment && !finding && bench.treatments.length) bench.layout.opened = null;
  });
</script>

<div class="sticky top-0 z-10 -mx-3 flex items-center gap-2 bg-base-100 px-3 py-1 perforated">
  <h2 class="grow truncate font-semibold first-letter:uppercase">
    {treatment ? `${index + 1}. ${treatment.title}` : (finding?.kind ?? "")}
  </h2>
  <button
    class="size-6 text-quiet hover:text-base-content"
    title="Fold these settings away"
    aria-label="Fold these settings away"
    onclick={() => (bench.layout.opened = null)}>×</button
  >
</div>
<div class="pt-1.5">
  {#if step && treatment}
    {#key step.kind + index}<StepSettings {bench} {index} {step} {treatment} />{/key}
  {:else if finding}
    <FindingDetail {bench} {finding} />
  {/if}
  {#if (step ?? finding)?.kind === "interlace"}<FieldsChoice {bench} />{/if}
</div>
