<script lang="ts">
  import { rateText } from "../lib/format";
  import type FolderDialog from "./FolderDialog.svelte";
  import type { Jobs } from "./jobs.svelte";

  /** A timeline before it is taken: its media, found or missing, and what of its events is not taken over. */
  const { jobs, folders }: { jobs: Jobs; folders: FolderDialog | undefined } = $props();
  let dialog = $state<HTMLDialogElement>();
  let handles = $state(12);
  const timeline = $derived(jobs.timeline);
  const found = $derived(new Set(timeline?.media.filter((m) => m.path).map((m) => m.key)));
  const ready = $derived((timeline?.events ?? []).filter((e) => found.has(e.medium) && !e.taken));
  const missing = $derived((timeline?.media ?? []).filter((m) => !m.path));
  const told = $derived([
    ...(timeline?.left_out ?? []),
    ...(timeline?.events ?? []).flatMap((e) => e.told.map((line) => `${e.number} ${e.name} ${line}`)),
  ]);
  const seconds = $derived(
    (timeline?.events ?? []).reduce((sum, event) => sum + event.frames, 0) /
      Math.max(Number.parseFloat(rateText(timeline?.rate ?? "24")), 1),
  );

  $effect(() => {
    if (timeline && !dialog?.open) dialog?.showModal();
    else if (!timeline) dialog?.close();
  });

  function take(event: SubmitEvent) {
    event.preventDefault();
    void jobs.takeEvents(handles);
  }
</script>

<dialog
  bind:this={dialog}
  class="modal"
  aria-labelledby="timeline-title"
  onclose={() => void jobs.dropTimeline()}
>
  {#if timeline}
    <form class="modal-box max-w-3xl" onsubmit={take}>
      <h2 id="timeline-title" class="pb-2 text-base font-semibold perforated">Timeline “{timeline.name}”</h2>
      <p class="py-2">
        <span class="figure">{timeline.events.length}</span> events over
        <span class="figure">{timeline.media.length}</span> files,
        <span class="figure">{seconds.toFixed(1)}</span> s at {rateText(timeline.rate)}.
        {#if missing.length}
          <b>{missing.length} {missing.length === 1 ? "file is" : "files are"} missing.</b>
        {/if}
      </p>
      <div class="max-h-80 overflow-y-auto">
        <table class="w-full text-[13px]">
          <thead>
            <tr class="border-b border-base-content text-left">
              <th class="py-1 pr-3 font-semibold">File in the timeline</th>
              <th class="py-1 pr-3 font-semibold">Events</th>
              <th class="py-1 pr-3 font-semibold">Found</th>
              <th></th>
            </tr>
          </thead>
          <tbody>
            {#each timeline.media as medium (medium.key)}
              <tr class="border-b border-rule align-top" data-medium={medium.path ? "found" : "missing"}>
                <td class="py-1 pr-3 wrap-anywhere"
                  >{medium.name}{#if medium.reel}<span class="text-quiet">
                      (reel {medium.reel})</span
                    >{/if}</td
                >
                <td class="py-1 pr-3 figure whitespace-nowrap">{medium.events.join(", ")}</td>
                <td class="py-1 pr-3 wrap-anywhere">
                  {#if medium.path}{medium.how} <span class="text-quiet">{medium.path}</span>
                  {:else}<b>missing</b> <span class="text-quiet">{medium.how}</span>{/if}
                </td>
                <td class="py-1 text-right">
                  <button
                    type="button"
                    class="btn whitespace-nowrap btn-xs"
                    aria-label={`Point to ${medium.name}`}
                    onclick={() =>
                      folders?.show(`Which file is ${medium.name}?`, (path) =>
                        jobs.pointTo(medium.key, path),
                      )}>Point to…</button
                  >
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
        {#each told as line (line)}<p class="pt-1 text-[13px]">{line}</p>{/each}
      </div>
      <div class="mt-3 flex flex-wrap items-center gap-2">
        <label class="flex items-center gap-1.5">
          Handles
          <input
            class="input w-20 text-right figure input-sm"
            type="number"
            min="0"
            max="1000"
            required
            bind:value={handles}
          />
          frames on each side, as far as a file goes
        </label>
        <span class="grow"></span>
        {#if missing.length}
          <button
            type="button"
            class="btn btn-sm"
            onclick={() => folders?.show("Look for missing media", (path) => jobs.lookIn(path), true)}
            >Look in a folder…</button
          >
        {/if}
        <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
        <button class="btn btn-primary btn-sm" disabled={!ready.length}
          >Take {ready.length} {ready.length === 1 ? "event" : "events"}</button
        >
      </div>
    </form>
  {/if}
</dialog>
