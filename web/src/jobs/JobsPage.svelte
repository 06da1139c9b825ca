<script lang="ts">
  import { untrack } from "svelte";
  import { connection } from "../lib/connection.svelte";
  import NextStep from "../lib/NextStep.svelte";
  import { follow } from "../lib/router.svelte";
  import FolderDialog from "./FolderDialog.svelte";
  import { busy, Jobs } from "./jobs.svelte";
  import ShotCard from "./ShotCard.svelte";
  import ToleranceDialog from "./ToleranceDialog.svelte";
  import { droppedFiles } from "./upload";

  const { jobId }: { jobId: number | null } = $props();
  const jobs = new Jobs(() => jobId);
  let newName = $state("");
  let hovering = $state(false);
  let folders = $state<FolderDialog>();
  let tolerances = $state<ToleranceDialog>();
  let proposeBy = $state("own");
  let picker = $state<HTMLInputElement>();
  const unmeasured = $derived(jobs.shots.filter((shot) => !shot.findings && !busy(shot)));
  const measuring = $derived(jobs.shots.filter(busy));
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
      return "Yellow lies outside its tolerance. Propose for all measured makes each shot the least plan that brings it inside; open a shot to judge it.";
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
    void jobs.loadShots(open);
    return jobs.follow(open);
  });

  async function drop(event: DragEvent) {
    event.preventDefault();
    hovering = false;
    if (event.dataTransfer) await jobs.add(await droppedFiles(event.dataTransfer.items));
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
  </header>

  {#if jobs.open}
    <div class="flex flex-wrap items-center gap-3 px-5 py-2.5">
      <p class="grow">
        <span class="figure">{jobs.shots.length}</span> shots,
        <span class="figure">{jobs.shots.filter((s) => s.findings).length}</span> measured
      </p>
      {#if jobs.sending !== null}
        <label class="flex items-center gap-2">
          Sending <progress class="progress w-40" max="1" value={jobs.sending}></progress>
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
      <button class="btn btn-sm" onclick={() => picker?.click()}>Add footage…</button>
      <button class="btn btn-sm" onclick={() => folders?.show()}>Import from a folder…</button>
      {#if measuring.length}
        <button class="btn btn-sm" onclick={() => void jobs.cancel(measuring)}>Stop measuring</button>
      {/if}
      <button
        class="btn btn-primary btn-sm"
        disabled={!unmeasured.length}
        onclick={() => void jobs.measure(unmeasured)}
      >
        Measure {unmeasured.length === jobs.shots.length ? "all" : "the rest"}
      </button>
    </div>
    <div class="flex flex-wrap items-center gap-3 px-5 pb-2.5">
      <label class="flex items-center gap-1.5">
        Order
        <select class="select w-40 select-sm" bind:value={jobs.sort}>
          <option value="name">by name</option>
          <option value="worst">worst finding first</option>
          {#each asked as kind (kind.kind)}<option value={kind.kind}>most {kind.kind} first</option>{/each}
        </select>
      </label>
      <label class="flex items-center gap-1.5">
        Show
        <select class="select w-48 select-sm" bind:value={jobs.filter}>
          <option value="all">all shots</option>
          <option value="outside">outside a tolerance</option>
          <option value="source">not the original?</option>
          <option value="unmeasured">not measured</option>
          {#each asked as kind (kind.kind)}<option value={kind.kind}>{kind.kind} outside</option>{/each}
        </select>
      </label>
      <button class="btn btn-sm" onclick={() => tolerances?.show()}>Tolerances…</button>
      <span class="grow"></span>
      <label class="flex items-center gap-1.5">
        Propose by
        <select class="select w-52 select-sm" bind:value={proposeBy}>
          <option value="own">each shot's own noise</option>
          <option value="matching">the profile of its camera</option>
          {#each jobs.profiles as profile (profile.id)}
            <option value={String(profile.id)}>{profile.name}</option>
          {/each}
        </select>
      </label>
      <button
        class="btn btn-sm"
        disabled={!jobs.shots.some((s) => s.findings)}
        onclick={() => void jobs.propose(proposeBy)}
      >
        Propose for all measured
      </button>
    </div>
    {#if jobs.shots.length}
      <div class="px-5 pb-1"><NextStep screen="jobs" text={nextStep} /></div>
    {/if}
    <ul
      class="grid min-h-0 grow auto-rows-min grid-cols-[repeat(auto-fill,minmax(300px,1fr))] gap-x-4 gap-y-5 overflow-y-auto px-5 pt-1 pb-6"
    >
      {#each jobs.shown as shot (shot.id)}
        <ShotCard
          {shot}
          onmeasure={() => void jobs.measure([shot])}
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
              Drop video files or numbered PNG, TIFF, DPX or EXR pictures anywhere on this page.
            </p>
          {/if}
        </li>
      {/each}
    </ul>
    <ToleranceDialog bind:this={tolerances} {jobs} />
    <FolderDialog bind:this={folders} onchoose={(path) => void jobs.importFrom(path)} />
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
