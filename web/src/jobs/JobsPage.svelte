<script lang="ts">
  const user = document.getElementById("app")?.dataset.user;
  import { untrack } from "svelte";
  import { connection } from "../lib/connection.svelte";
  import { keep } from "../lib/kept";
  import { nearing } from "../lib/nearing";
  import NextStep from "../lib/NextStep.svelte";
  import { follow } from "../lib/router.svelte";
  import CopyDialog from "./CopyDialog.svelte";
  import CutDialog from "./CutDialog.svelte";
  import FolderDialog from "./FolderDialog.svelte";
  import { Jobs } from "./jobs.svelte";
  import ShotCard from "./ShotCard.svelte";
  import ShotTable from "./ShotTable.svelte";
  import { busy } from "./state";
  import TimelineDialog from "./TimelineDialog.svelte";
  import ToleranceDialog from "./ToleranceDialog.svelte";
  import { droppedFiles } from "./upload";
  import WantedDialog from "./WantedDialog.svelte";

  const { jobId }: { jobId: number | null } = $props();
  const jobs = new Jobs(() => jobId);
  let newName = $state("");
  let hovering = $state(false);
  let folders = $state<FolderDialog>();
  let tolerances = $state<ToleranceDialog>();
  let proposeBy = $state("own");
  let picker = $state<HTMLInputElement>();
  let timelinePicker = $state<HTMLInputElement>();
  let copyDialog = $state<CopyDialog>();
  let cutDialog = $state<CutDialog>();
  let wantedDialog = $state<WantedDialog>();
  const views = [
    ["sheet", "Sheet"],
    ["table", "Table"],
  ] as const;
  const chosen = $derived(jobs.chosenShots);
  /** The one that is picked, for what is done to one alone. */
  const only = $derived(jobs.picked.size === 1 ? chosen[0] : undefined);
  const written = $derived(jobs.shots.some((shot) => shot.render?.state === "done"));
  const formats = $derived(
    (jobs.open?.wanted.formats ?? [])
      .map((name) => jobs.choices?.formats.find((format) => format.name === name)?.title ?? name)
      .join("; "),
  );
  const unmeasured = $derived(
    (jobs.picked.size ? jobs.chosenShots : jobs.shots).filter((shot) => !shot.findings && !busy(shot)),
  );
  const measuring = $derived(jobs.shots.filter(busy));
  /** How far all that is being measured has come together. */
  const measured = $derived(
    measuring.reduce((sum, shot) => sum + (shot.survey?.progress ?? 0), 0) / Math.max(measuring.length, 1),
  );
  const yellow = $derived(
    jobs.shots.filter(
      (shot) => shot.source?.original === false || shot.findings?.some((finding) => finding.outside),
    ),
  );
  /** Findings that lie outside somewhere in the job: what is worth sorting by. */
  const asked = $derived(
    jobs.kinds.filter(
      ({ kind }) =>
        kind === jobs.sort ||
        kind === jobs.filter ||
        yellow.some((shot) => shot.findings?.some((finding) => finding.kind === kind && finding.outside)),
    ),
  );
  const nextStep = $derived.by(() => {
    if (unmeasured.length) return "Measure the rest: nothing can be proposed for a shot before it is known.";
    if (measuring.length)
      return "Shots are being measured, figures come in as each is done. Yellow lies outside its tolerance. Open any shot meanwhile.";
    if (yellow.some((shot) => !shot.versions.length))
      return "Yellow lies outside its tolerance. Propose makes each shot the least plan that brings it inside; open a shot to judge it.";
    if (yellow.length)
      return "Some figures stay yellow after their plan: open the shot, raise an amount, or ask for the original where it says so.";
    return "No shot has a yellow figure left. Open one, compare result and source, then render.";
  });

  // at first, and once the application is back after an outage
  $effect(() => {
    if (connection.returns >= 0) untrack(() => void jobs.load());
  });
  $effect(() => {
    const open = jobs.open?.id;
    if (open === undefined) return;
    untrack(() => void jobs.loadShots(open));
    return jobs.follow(open);
  });

  async function drop(event: DragEvent) {
    event.preventDefault();
    hovering = false;
    if (event.dataTransfer) await jobs.add(await droppedFiles(event.dataTransfer.items));
  }

  function chooseTimeline(event: Event & { currentTarget: HTMLInputElement }) {
    const files = [...(event.currentTarget.files ?? [])];
    event.currentTarget.value = ""; // the same file may be chosen again
    void jobs.add(files);
  }

  function show(view: "sheet" | "table") {
    jobs.view = view;
    keep("shots-view", view);
  }

  function create(event: SubmitEvent) {
    event.preventDefault();
    if (newName.trim()) void jobs.create(newName.trim());
    newName = "";
  }
</script>

<svelte:head><title>{jobs.open?.name ?? "Jobs"} · Yellow Clean</title></svelte:head>

<main
  class="flex h-full flex-col"
  ondragover={(event) => {
    event.preventDefault();
    hovering = true;
  }}
  ondragleave={(event) => {
    if (event.target === event.currentTarget) hovering = false;
  }}
  ondrop={drop}
>
  <header class="flex flex-wrap items-center gap-x-4 gap-y-1.5 px-5 py-2.5 perforated">
    <h1 class="flex items-center gap-2 text-lg font-semibold">
      <img src="/static/mark.svg" alt="" width="22" height="22" />Yellow Clean
    </h1>
    <nav class="flex grow items-center gap-1 overflow-x-auto" aria-label="Jobs">
      {#each jobs.all as job (job.id)}
        <a
          href={`/jobs/${job.id}`}
          onclick={follow}
          class={[
            "px-3 py-1",
            job.id === jobs.open?.id ? "bg-neutral text-neutral-content" : "hover:bg-base-200",
          ]}
          aria-current={job.id === jobs.open?.id ? "page" : undefined}
        >
          {job.name}
        </a>
      {/each}
    </nav>
    {#if jobs.open}<a class="btn btn-sm" href={`/jobs/${jobs.open.id}/renders`} onclick={follow}>Renders</a
      >{/if}
    <a href="/profiles" onclick={follow} class="btn btn-sm">Noise profiles</a>
    <form onsubmit={create} class="flex items-center gap-2">
      <input
        class="input w-44 input-sm"
        placeholder="Name of a new job"
        aria-label="Name of a new job"
        bind:value={newName}
      />
      <button class="btn btn-sm" disabled={!newName.trim()}>Open new job</button>
    </form>
    {#if user}
      <form method="post" action="/sign-out/" class="flex items-center gap-2">
        {user}<button class="btn btn-sm">Sign out</button>
      </form>
    {/if}
  </header>

  {#if jobs.open}
    <div class="flex flex-wrap items-center gap-x-3 gap-y-2 px-5 py-2">
      <p>
        <span class="figure">{jobs.shots.length}</span> shots,
        <span class="figure">{jobs.shots.filter((s) => s.findings).length}</span> measured
      </p>
      <label class="flex items-center gap-1.5">
        Order
        <select class="select w-40 select-sm" bind:value={jobs.sort}>
          <option value="reel">of the reel</option>
          <option value="name">by name</option>
          <option value="worst">worst finding first</option>
          {#if jobs.sort === "frames"}<option value="frames">longest first</option>{/if}
          {#each asked as kind (kind.kind)}<option value={kind.kind}>most {kind.kind} first</option>{/each}
        </select>
      </label>
      <label class="flex items-center gap-1.5">
        Show
        <select class="select w-44 select-sm" bind:value={jobs.filter}>
          <option value="all">all shots</option>
          <option value="outside">outside a tolerance</option>
          <option value="source">not the original?</option>
          <option value="unmeasured">not measured</option>
          {#each asked as kind (kind.kind)}<option value={kind.kind}>{kind.kind} outside</option>{/each}
        </select>
      </label>
      <div class="join" role="group" aria-label="View of the shots">
        {#each views as [view, title] (view)}
          <button
            class={["btn join-item btn-sm", jobs.view === view && "btn-neutral"]}
            aria-pressed={jobs.view === view}
            onclick={() => show(view)}>{title}</button
          >
        {/each}
      </div>
      <span class="grow"></span>
      {#if jobs.sending !== null}
        <label class="flex items-center gap-2">
          Sending <progress class="progress w-28" max="1" value={jobs.sending}></progress>
          <span class="figure">{Math.round(100 * jobs.sending)} %</span>
        </label>
      {/if}
      <input
        bind:this={picker}
        type="file"
        multiple
        class="hidden"
        aria-label="Choose footage"
        onchange={(event) => void jobs.add([...(event.currentTarget.files ?? [])])}
      />
      <input
        bind:this={timelinePicker}
        type="file"
        accept=".otio,.edl,.xml"
        class="hidden"
        aria-label="Choose a timeline"
        onchange={chooseTimeline}
      />
      <button class="btn btn-sm" onclick={() => picker?.click()}>Add footage…</button>
      <button
        class="btn btn-sm"
        onclick={() => folders?.show("Import from a folder", (path) => void jobs.importFrom(path))}
        >From a folder…</button
      >
      <button class="btn btn-sm" onclick={() => timelinePicker?.click()}>Timeline…</button>
      <button class="btn btn-sm" onclick={() => tolerances?.show()}>Tolerances…</button>
      <a
        class="btn btn-sm"
        href={`/api/jobs/${jobs.open.id}/packed`}
        title="The job without its media, to be dropped on this page elsewhere or worked on by the command line"
        download>Pack</a
      >
    </div>
    <div
      class="flex flex-wrap items-center gap-x-3 gap-y-2 border-y border-rule px-5 py-1.5"
      role="group"
      aria-label="What is done to many shots"
    >
      <p class="min-w-24">
        {#if jobs.picked.size}
          On <span class="figure">{chosen.length}</span> chosen
          <button class="text-[13px] underline" onclick={() => jobs.picked.clear()}>all</button>
        {:else}
          On {chosen.length === jobs.shots.length ? "all" : "the"} <span class="figure">{chosen.length}</span>
          {chosen.length === jobs.shots.length ? "" : "shown"}
        {/if}
      </p>
      {#if measuring.length}
        <span class="flex items-center gap-2 text-[13px]">
          <progress class="progress w-24" max="1" value={measured} aria-label="Measuring"></progress>
          <span class="figure">{measuring.length}</span> to measure
        </span>
        <button class="btn btn-sm" onclick={() => void jobs.stopMeasuring(measuring)}>Stop measuring</button>
      {/if}
      {#if unmeasured.length || !measuring.length}
        <button
          class="btn btn-sm"
          disabled={!unmeasured.length}
          onclick={() => void jobs.measure(unmeasured)}
        >
          Measure {unmeasured.length === jobs.shots.length ? "all" : "the rest"}
        </button>
      {/if}
      <label class="flex items-center gap-1.5">
        Propose by
        <select class="select w-44 select-sm" bind:value={proposeBy}>
          <option value="own">each shot's own noise</option>
          <option value="group">shots with noise like its own</option>
          <option value="camera">the profile of its camera</option>
          {#each jobs.profiles as profile (profile.id)}
            <option value={String(profile.id)}>{profile.name}</option>
          {/each}
          {#each jobs.presets as preset (preset.id)}
            <option value={`preset ${preset.id}`}>steps of “{preset.name}”</option>
          {/each}
        </select>
      </label>
      <button
        class="btn btn-sm"
        disabled={!chosen.some((s) => s.findings)}
        onclick={() => void jobs.propose(chosen, proposeBy)}
      >
        Propose
      </button>
      <button class="btn btn-sm" onclick={() => copyDialog?.show()}>Copy from…</button>
      {#if jobs.judging}
        <span class="flex items-center gap-2 text-[13px]">
          <progress
            class="progress w-16"
            max={jobs.judging.all}
            value={jobs.judging.done}
            aria-label="Judging"
          ></progress>
          <span class="figure">{jobs.judging.all - jobs.judging.done}</span> to judge
        </span>
        <button class="btn btn-sm" onclick={() => jobs.stopJudging()}>Stop</button>
      {:else}
        <button
          class="btn btn-sm"
          title="What the newest plan of each shot damages, on its middle frame; the table shows it"
          disabled={!chosen.some((s) => s.versions.length)}
          onclick={() => {
            show("table");
            void jobs.judge(chosen);
          }}>Judge</button
        >
      {/if}
      {#if only}
        <button class="btn btn-sm" onclick={() => cutDialog?.show(only)}>Cut into shots…</button>
        {#if only.origin_id}
          <button class="btn btn-sm" onclick={() => void jobs.takeShotBack(only)}>Take back</button>
        {/if}
      {/if}
      <span class="grow"></span>
      <button class="btn btn-sm" title={formats} onclick={() => wantedDialog?.show()}>Written as…</button>
      <button
        class="btn btn-primary btn-sm"
        title={formats}
        disabled={!chosen.some((s) => s.versions.length)}
        onclick={() => void jobs.render(chosen)}
      >
        Render in {jobs.open.wanted.formats?.length ?? 0}
        {jobs.open.wanted.formats?.length === 1 ? "format" : "formats"}
      </button>
      <a
        class={["btn btn-sm", !written && "btn-disabled"]}
        href={`/api/jobs/${jobs.open.id}/delivery`}
        aria-disabled={!written}
        title="Delivery note and timelines of what is written, as one ZIP"
        download>Note and timeline</a
      >
    </div>
    {#if jobs.shots.length}
      <div class="px-5 pt-2 pb-1"><NextStep screen="jobs" text={nextStep} /></div>
    {/if}
    {#if jobs.view === "table" && jobs.shown.length}
      <ShotTable {jobs} />
    {:else}
      <ul
        class="grid min-h-0 grow auto-rows-min grid-cols-[repeat(auto-fill,minmax(300px,1fr))] gap-x-4 gap-y-5 overflow-y-auto px-5 pt-1 pb-6"
      >
        {#each jobs.inSight as shot (shot.id)}
          <ShotCard
            {shot}
            picked={jobs.picked.has(shot.id)}
            onpick={() => jobs.pick(shot.id)}
            onpoint={() =>
              folders?.show(
                `Where is the footage of ${shot.name}?`,
                (path) => void jobs.pointShot(shot, path),
              )}
            onmeasure={() => void jobs.measure([shot])}
            oncut={() => cutDialog?.show(shot)}
            ontakeback={() => void jobs.takeShotBack(shot)}
            onremove={() => void jobs.remove(shot)}
          />
        {:else}
          <li class="col-span-full border border-dashed border-rule py-24 text-center">
            {#if jobs.shots.length}
              <p class="text-base font-semibold">No shot of this job is like that</p>
              <p class="text-quiet">Show “all shots” to see the {jobs.shots.length} there are.</p>
            {:else if jobs.shotsOf !== jobs.open.id}
              <p class="text-quiet">Opening the job …</p>
            {:else}
              <p class="text-base font-semibold">No footage yet</p>
              <p class="text-quiet">
                Drop video files, numbered PNG, TIFF, DPX or EXR pictures, or a timeline (.otio, .edl, .xml)
                anywhere on this page.
              </p>
            {/if}
          </li>
        {/each}
        {#if jobs.inSight.length < jobs.shown.length}<li use:nearing={jobs.drawMore} class="h-8"></li>{/if}
      </ul>
    {/if}
    <ToleranceDialog bind:this={tolerances} {jobs} />
    <CopyDialog bind:this={copyDialog} {jobs} />
    <CutDialog bind:this={cutDialog} {jobs} />
    <WantedDialog bind:this={wantedDialog} {jobs} />
    <TimelineDialog {jobs} {folders} />
    <FolderDialog bind:this={folders} />
  {:else if jobs.loaded}
    <p class="m-auto text-base">Name a job above to begin.</p>
  {/if}

  {#if hovering}
    <div
      class="pointer-events-none fixed inset-0 z-40 grid place-items-center bg-neutral/80 text-2xl text-neutral-content"
    >
      Drop to add to “{jobs.open?.name}”
    </div>
  {/if}
</main>
