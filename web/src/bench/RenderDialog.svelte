<script lang="ts">
  import { api, asked, type Cost, type Dither, type Tuning } from "../api/client";
  import DitherChoice from "../lib/DitherChoice.svelte";
  import { about, percent, short, timeLeft } from "../lib/format";
  import { notices } from "../lib/notices.svelte";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  let dialog = $state<HTMLDialogElement>();
  let format = $state("ffv1");
  let first = $state(0);
  let last = $state(0);
  let bakeLook = $state(false);
  const frames = $derived(bench.shot?.media.frames ?? 1);
  let dither = $state<Dither>("moving");
  const chosen = $derived(bench.formats.find((option) => option.name === format));
  const lost = $derived(chosen?.lost ?? []);
  const fits = $derived(first >= 0 && last < frames && first <= last);

  /** What a frame costs on this machine, once it was asked for. */
  let cost = $state.raw<Cost | null>(null);
  let trying = $state(false);

  const seconds = (value: number) => value.toPrecision(2);

  async function tryOut() {
    const version = bench.version;
    if (!version) return;
    trying = true;
    await notices.watch(async () => {
      const params = { path: { version_id: version.id }, query: { n: bench.n } };
      cost = await asked(api.POST("/api/versions/{version_id}/cost", { params }));
    });
    trying = false;
  }

  /** How renders are best spread over this machine, once that was tried. */
  let tuning = $state.raw<Tuning | null>(null);
  let tryingWays = $state(false);

  async function tune() {
    const version = bench.version;
    if (!version) return;
    tryingWays = true;
    await notices.watch(async () => {
      const params = { path: { version_id: version.id } };
      tuning = await asked(api.POST("/api/versions/{version_id}/tune", { params }));
    });
    tryingWays = false;
  }

  export function show(): void {
    cost = tuning = null;
    first = 0;
    last = frames - 1;
    dialog?.showModal();
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="render-title">
  <div class="modal-box max-w-2xl">
    <h2 id="render-title" class="pb-2 text-base font-semibold perforated">
      Render {bench.shot?.name}, version {bench.version?.label}
    </h2>
    <div class="grid grid-cols-[7rem_1fr] items-center gap-x-3 gap-y-2 py-3">
      <label for="render-format">Format</label>
      <select id="render-format" class="select select-sm" bind:value={format}>
        {#each bench.formats as option (option.name)}
          <option value={option.name}>{option.title} ({option.ending})</option>
        {/each}
      </select>
      <label for="render-first">Frames</label>
      <div class="flex items-center gap-2">
        <input
          id="render-first"
          class="input w-24 figure input-sm"
          type="number"
          min="0"
          max={frames - 1}
          bind:value={first}
        />
        <span>to</span>
        <input
          aria-label="Last frame"
          class="input w-24 figure input-sm"
          type="number"
          min="0"
          max={frames - 1}
          bind:value={last}
        />
        <span class="text-quiet"
          >{fits ? `${last - first + 1} frames` : `the shot has frames 0 to ${frames - 1}`}</span
        >
      </div>
    </div>
    {#if (chosen?.bits ?? 16) <= 12}
      <div class="grid grid-cols-[7rem_1fr] items-center gap-x-3 pb-2">
        <DitherChoice id="render-dither" bind:value={dither} />
      </div>
    {/if}
    {#if lost.length}
      <p class="pb-2" data-testid="lost">This format does not carry {lost.join(", ")} of the shot.</p>
    {/if}
    <div class="pb-2">
      <button class="btn btn-xs" disabled={trying || !bench.version} onclick={() => void tryOut()}
        >{trying ? "Trying …" : "Try out what it costs"}</button
      >
      <button
        class="btn btn-xs"
        disabled={tryingWays || !bench.version}
        title="Renders a few frames of this plan with one process, with several, and with more threads, and keeps the quickest way. Takes as long as some fifteen frames."
        onclick={() => void tune()}>{tryingWays ? "Trying all ways …" : "Tune for this machine"}</button
      >
      {#if tuning}
        <p class="pt-1" data-testid="tuning">
          {#each tuning.trials as way, k (k)}{k ? "; " : ""}{way.processes}
            {way.processes === 1 ? "process" : "processes"} of {way.threads}
            {way.threads === 1 ? "thread" : "threads"} <span class="figure">{seconds(way.seconds)}</span> s a frame{/each}.
          {tuning.gain > 1.02
            ? `The first is kept from the next start on: ${tuning.gain.toFixed(2)} times as fast as now.`
            : "Nothing is quicker than what is in use."}
        </p>
      {/if}
      {#if cost}
        <p class="pt-1" data-testid="cost">
          <span class="figure">{seconds(cost.seconds)}</span> s a frame on this machine, {about(
            cost.seconds * Math.max(last - first + 1, 1),
          )} in all:
          {#each cost.steps as step, k (k)}{k ? ", " : ""}{step.title}
            <span class="figure">{seconds(step.seconds)}</span> s{/each}.
        </p>
        {#each cost.cheaper as change, k (k)}
          <p class="text-[13px] text-quiet">
            Cheaper: {change.told}, <span class="figure">{seconds(change.seconds)}</span> s a frame.
          </p>
        {/each}
      {/if}
    </div>
    <label class="flex items-center gap-2 pb-2">
      <input type="checkbox" class="checkbox checkbox-xs" bind:checked={bakeLook} />
      Bake the look in (without this the file keeps the shot’s own values)
    </label>
    {#if bench.shot?.generation}
      <p class="pb-2" data-testid="generation">
        <b class="first-letter:uppercase">{bench.shot.made_of}.</b> Take it back on the shots’ page to render from
        the live plan.
      </p>
    {/if}
    {#if bench.version?.format?.beside_source}
      <p class="pb-2" data-testid="result-format">
        The result differs from the shot: {bench.version.format.beside_source}.
      </p>
    {/if}
    <p class="text-[13px] text-quiet">
      Frame rate is carried over, and what the format holds of timecode and sound; colour tags say what the
      values are in. The file appears only when it is complete.
    </p>
    <ul class="mt-3 max-h-72 overflow-y-auto">
      {#each bench.renders as render (render.id)}
        <li class="border-t border-rule py-2" data-render={render.state}>
          <div class="flex items-center gap-3">
            <span class="grow">
              Version {render.label}, {render.format}, frames
              <span class="figure">{render.first}–{render.stop - 1}</span>
            </span>
            {#if render.state === "running" || render.state === "queued"}
              <progress class="progress w-28" max="1" value={render.progress}></progress>
              <span class="w-12 text-right figure"
                >{render.state === "queued" ? "waits" : percent(render.progress)}</span
              >
              <button
                class="btn btn-xs"
                disabled={render.cancel_requested}
                onclick={() => bench.cancelRender(render)}
                >{render.cancel_requested ? "Stopping …" : "Cancel"}</button
              >
            {:else if render.state === "done"}
              <a class="btn btn-primary btn-xs" href={`/api/renders/${render.id}/file`} download>Download</a>
              <button class="btn btn-xs" onclick={() => bench.deleteRender(render)}>Delete</button>
            {:else}
              <span>{render.state}</span>
              <button class="btn btn-xs" onclick={() => bench.deleteRender(render)}>Delete</button>
            {/if}
          </div>
          {#if render.state === "running"}
            {@const count = render.stop - render.first}
            <p class="text-[13px] text-quiet">
              <span class="figure">{Math.floor(render.progress * count)}</span> of
              <span class="figure">{count}</span> frames · {timeLeft(render.started, render.progress)}
            </p>
          {/if}
          {#if render.state === "done"}
            <p class="text-[13px] text-quiet">{render.file_name}</p>
          {/if}
          {#if render.message}<p class="text-[13px]">{render.message}</p>{/if}
          {#if render.report?.damaged?.length}
            <p class="text-[13px]">
              Damaged in the source, and so here: frames {render.report.damaged.slice(0, 8).join(", ")}{render
                .report.damaged.length > 8
                ? " …"
                : ""}. Copy it again from the original.
            </p>
          {/if}
          {#if render.report?.findings?.length}
            {@const told = render.report.findings.filter((f) => f.was_outside || f.outside)}
            <table class="w-full text-[13px]" data-testid="written-findings">
              <caption class="text-left"
                >Measured in the written file; {render.report.findings.length - told.length} others were and are
                inside.</caption
              >
              <tbody>
                {#each told as f (f.kind)}
                  <tr class="border-t border-rule">
                    <td class="first-letter:uppercase">{f.kind}</td>
                    <td class="text-right figure"
                      >{short(f.value)} →
                      <span class={[f.outside && "outside"]}
                        >{f.remaining == null ? "not measured" : short(f.remaining)}</span
                      ></td
                    >
                    <td class="pl-1">{f.unit}</td>
                    <td class="text-right">{f.outside ? "outside" : "inside"} {f.tolerance}</td>
                  </tr>
                {/each}
              </tbody>
            </table>
          {/if}
          {#if render.report?.patches.length}
            <p class="text-[13px]">
              On flat patches{render.report.look_baked ? ", with the look in it" : ""}:
            </p>
            {#each render.report.patches as p, k (k)}
              <p class="text-[13px] text-quiet">
                level <span class="figure">{p.level_cv.toFixed(0)}</span>, luma
                <span class="figure">{short(p.source_luma_cv)} → {short(p.result_luma_cv)}</span> CV, colour
                <span class="figure">{short(p.source_chroma_cv)} → {short(p.result_chroma_cv)}</span> CV
              </p>
            {/each}
          {/if}
        </li>
      {/each}
    </ul>
    <div class="mt-4 flex justify-end gap-2">
      <form method="dialog"><button class="btn btn-sm">Close</button></form>
      <button
        class="btn btn-primary btn-sm"
        disabled={!fits}
        onclick={() => bench.render(format, first, last + 1, bakeLook, dither)}
      >
        Start render
      </button>
    </div>
  </div>
</dialog>
