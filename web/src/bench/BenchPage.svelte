<script lang="ts">
  import { untrack } from "svelte";
  import type { View } from "../api/client";
  import { mediaLine } from "../lib/format";
  import { ZOOMS } from "../lib/geometry";
  import { connection } from "../lib/connection.svelte";
  import NextStep from "../lib/NextStep.svelte";
  import { follow } from "../lib/router.svelte";
  import { Bench } from "./bench.svelte";
  import ClashDialog from "./ClashDialog.svelte";
  import Evidence from "./Evidence.svelte";
  import { edit, HOLD, KEYS, letGo, nameOf, press, PURPOSES } from "./keys";
  import InputSpaceDialog from "./InputSpaceDialog.svelte";
  import Picture from "./Picture.svelte";
  import RenderDialog from "./RenderDialog.svelte";
  import CompareControls from "./CompareControls.svelte";
  import CloserControls from "./CloserControls.svelte";
  import ProposalDialog from "./ProposalDialog.svelte";
  import ScrubBar from "./ScrubBar.svelte";
  import SettingsPanel from "./SettingsPanel.svelte";
  import TestStrip from "./TestStrip.svelte";
  import TicketList from "./TicketList.svelte";

  const { shotId }: { shotId: number } = $props();
  // A change of shot makes a new page (see App), so the number is taken once.
  // svelte-ignore state_referenced_locally
  const bench = new Bench(shotId);
  void bench.open();
  let renderDialog = $state<RenderDialog>();
  let proposalDialog = $state<ProposalDialog>();
  let inputSpaceDialog = $state<InputSpaceDialog>();
  let help = $state<HTMLDialogElement>();
  /** Whether the version's name and note are being worked on. */
  let editing = $state(false);
  const jobId = $derived(bench.shot?.job_id);
  const VIEWS: { view: View; label: string }[] = [
    { view: "source", label: "Source" },
    { view: "result", label: "Result" },
    { view: "removed", label: "Removed" },
    { view: "reach", label: "Reach" },
  ];

  /** Settings make room for a test strip, which needs the width. */
  const settingsOpen = $derived(
    bench.layout.ticket && bench.layout.opened !== null && bench.strip.control === null,
  );
  const choosingInset = $derived(bench.pick?.name === "inset");

  function chooseInset() {
    const take = (x: number, y: number) => (bench.compare.inset = { x, y });
    bench.pick = choosingInset ? null : { name: "inset", take };
  }

  /** A name that is refused is not left standing. */
  async function rename(field: HTMLInputElement) {
    await bench.versions.tell({ label: field.value });
    field.value = bench.version?.label ?? "";
  }

  // what was under way when the application went away is asked for again once it is back
  $effect(() => {
    if (connection.returns) untrack(() => void bench.resume());
  });
  $effect(() => (jobId === undefined ? undefined : bench.follow(jobId)));
  const nextStep = $derived.by(() => {
    if (bench.measuring) return "";
    if (!bench.shot?.report) return "Measure the shot first: what is proposed rests on its figures.";
    const yellow = bench.standings.some((s) => s.outside);
    if (bench.version)
      return yellow
        ? "What is still yellow this plan leaves as it is. Compare result and source, look at what was removed, judge overwork, then render."
        : "Compare result and source, look at what was removed (noise alone should be there), judge overwork, then render.";
    if (yellow)
      return "Yellow lies outside its tolerance. Propose makes the least plan that brings it inside.";
    return bench.shot.report.source.original
      ? "No figure is yellow: this shot asks for no plan."
      : "No figure is yellow, but this may not be the original: ask for it first.";
  });
</script>

<svelte:window
  oninput={edit}
  onchange={edit}
  onpointerup={letGo}
  onkeydown={(event) => press(event, bench)}
  onkeyup={(event) => nameOf(event) === HOLD.key && (bench.compare.holding = false)}
  onblur={() => (bench.compare.holding = false)}
/>
<svelte:head><title>{bench.shot?.name ?? "Bench"} · Yellow Clean</title></svelte:head>

{#if bench.shot}
  {@const shot = bench.shot}
  <div
    class="bench grid h-full"
    data-ticket={bench.layout.ticket}
    data-settings-open={settingsOpen}
    data-evidence={bench.layout.evidence}
  >
    <div class="[grid-area:head]">
      <header class="flex flex-wrap items-center gap-x-3 gap-y-1 px-3 py-1.5 perforated">
        <a href={`/jobs/${shot.job_id}`} onclick={follow} class="btn btn-xs">All shots</a>
        <h1 class="font-semibold">{shot.name}</h1>
        <p class="min-w-24 grow basis-0 truncate text-[13px] text-quiet" title={shot.media.notes?.join(" ")}>
          {mediaLine(shot.media)}
        </p>
        {#if shot.input_space}
          <button
            class="btn max-w-64 btn-xs"
            title={`Input space: ${shot.input_space.space}, ${shot.input_space.why}`}
            onclick={() => inputSpaceDialog?.show()}
          >
            <span class="truncate">Input {shot.input_space.space}</span>
            <span class="font-normal text-quiet">{shot.input_space.sure}</span>
          </button>
        {/if}
        <button class="btn btn-xs" onclick={() => bench.travel("undo")} disabled={!bench.history.canUndo}
          >Undo</button
        >
        <button class="btn btn-xs" onclick={() => bench.travel("redo")} disabled={!bench.history.canRedo}
          >Redo</button
        >
        <button class="btn btn-xs" onclick={() => help?.showModal()}>Keys</button>
        <button class="btn btn-xs" onclick={() => bench.measure()} disabled={bench.measuring}>Measure</button>
        <button
          class="btn btn-xs"
          onclick={() => proposalDialog?.show()}
          disabled={!shot.report || bench.measuring}>Propose</button
        >
        <button class="btn btn-primary btn-xs" onclick={() => renderDialog?.show()} disabled={!bench.version}
          >Render…</button
        >
      </header>
      {#if nextStep}
        <div class="border-b border-rule px-3 py-0.5"><NextStep screen="bench" text={nextStep} /></div>
      {/if}
    </div>

    <aside
      class="ticket flex min-h-0 flex-col overflow-y-auto border-r border-rule px-3 pb-2 [grid-area:ticket]"
      aria-label="Findings and steps"
    >
      <div class="flex items-center gap-2 py-1.5 perforated">
        <h2 class="grow font-semibold">Findings</h2>
        {#if shot.plans.length}
          <label class="flex items-center gap-1.5">
            Version
            <select
              class="select w-16 select-xs"
              data-testid="versions"
              value={bench.versionId}
              onchange={(e) => bench.choose(Number(e.currentTarget.value))}
            >
              {#each shot.plans as version (version.id)}
                <option value={version.id}>{version.label}</option>
              {/each}
            </select>
          </label>
          <button
            class={["btn btn-xs", editing && "btn-active"]}
            aria-expanded={editing}
            title="Name it, write a note on it, duplicate or delete it"
            onclick={() => (editing = !editing)}>Edit</button
          >
        {/if}
      </div>
      {#if bench.version?.note && !editing}
        <p class="border-b border-rule py-0.5 text-[13px] text-quiet">{bench.version.note}</p>
      {/if}
      {#if bench.version && editing}
        <div class="flex items-center gap-1.5 border-b border-rule py-1.5">
          <input
            class="input w-14 input-xs"
            aria-label="Name of this version"
            maxlength="8"
            value={bench.version.label}
            onchange={(e) => void rename(e.currentTarget)}
          />
          <input
            class="input min-w-0 grow input-xs"
            placeholder="Note on this version"
            aria-label="Note on this version"
            value={bench.version.note}
            onchange={(e) => bench.versions.tell({ note: e.currentTarget.value })}
          />
          <button class="btn btn-xs" onclick={bench.versions.duplicate}>Duplicate</button>
          <button class="btn btn-xs" onclick={bench.versions.delete}>Delete</button>
        </div>
      {/if}
      <TicketList {bench} />
    </aside>

    {#if settingsOpen}
      <aside
        class="min-h-0 overflow-y-auto border-r border-rule px-3 pb-3 [grid-area:settings]"
        aria-label="Settings"
      >
        <SettingsPanel {bench} />
      </aside>
    {/if}

    <aside
      class="evidence flex min-h-0 flex-col border-r border-rule [grid-area:evidence]"
      aria-label="Evidence"
    >
      <Evidence {bench} />
    </aside>

    <main class="flex min-h-0 min-w-0 flex-col [grid-area:picture]">
      <div class="flex flex-wrap items-center gap-x-3 gap-y-1 px-3 py-1" role="toolbar" aria-label="Views">
        <div class="join">
          {#each VIEWS as { view, label } (view)}
            <button
              class={["btn join-item btn-xs", bench.view === view && "btn-active btn-neutral"]}
              aria-pressed={bench.view === view}
              disabled={view !== "source" && !bench.version}
              onclick={() => bench.show(view)}>{label}</button
            >
          {/each}
        </div>
        <CompareControls {bench} />
        <span class="grow"></span>
        <label class="flex items-center gap-1.5">
          Zoom
          <select
            class="select w-24 select-xs"
            value={bench.zoom === null ? "fit" : String(bench.zoom)}
            onchange={(e) =>
              (bench.zoom = e.currentTarget.value === "fit" ? null : Number(e.currentTarget.value))}
          >
            <option value="fit">Fit</option>
            {#each ZOOMS as zoom (zoom)}<option value={String(zoom)}>{zoom} %</option>{/each}
          </select>
        </label>
      </div>
      <div
        class="flex flex-wrap items-center gap-x-3 gap-y-1 px-3 pb-1"
        role="toolbar"
        aria-label="Looking closer"
      >
        <CloserControls {bench} />
        <label class="flex items-center gap-1.5">
          <input type="checkbox" class="checkbox checkbox-xs" bind:checked={bench.looks.on} />
          Under the look
        </label>
        <span class="grow"></span>
        <button
          class={["btn btn-xs", choosingInset && "btn-active"]}
          aria-pressed={choosingInset}
          onclick={chooseInset}>{choosingInset ? "Click a spot" : "Inset"}</button
        >
        <button class="btn btn-xs" onclick={bench.compare.keep}>Keep still</button>
      </div>
      <div class="stage relative min-h-0 grow">
        <Picture {bench} />
        <TestStrip {bench} />
      </div>
      <ScrubBar {bench} />
    </main>
  </div>
  <ClashDialog {bench} />
  <InputSpaceDialog bind:this={inputSpaceDialog} {bench} />
  <ProposalDialog bind:this={proposalDialog} {bench} />
  <RenderDialog bind:this={renderDialog} {bench} />
  <dialog bind:this={help} class="modal" aria-labelledby="help-title">
    <div class="modal-box max-w-3xl">
      <h2 id="help-title" class="pb-2 text-base font-semibold perforated">Keys</h2>
      <div class="columns-2 gap-8 py-3">
        {#each PURPOSES as purpose (purpose)}
          <section class="break-inside-avoid pb-3">
            <h3 class="pb-1 font-semibold">{purpose}</h3>
            <dl class="grid grid-cols-[4.5rem_1fr] items-center gap-y-1">
              {#each [HOLD, ...KEYS].filter((key) => key.for === purpose) as key (key.key)}
                <dt><kbd class="kbd kbd-sm">{key.shown}</kbd></dt>
                <dd>{key.does}</dd>
              {/each}
            </dl>
          </section>
        {/each}
        <section class="break-inside-avoid">
          <h3 class="pb-1 font-semibold">Taking back</h3>
          <dl class="grid grid-cols-[4.5rem_1fr] items-center gap-y-1">
            <dt><kbd class="kbd kbd-sm">Ctrl Z</kbd></dt>
            <dd>undo; with Shift redo</dd>
          </dl>
        </section>
      </div>
      <form method="dialog" class="text-right"><button class="btn btn-sm">Close</button></form>
    </div>
  </dialog>
{:else}
  <p class="grid h-full place-items-center">Opening the shot …</p>
{/if}
