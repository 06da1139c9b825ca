<script lang="ts">
  import { untrack } from "svelte";
  import type { Render } from "../api/client";
  import { connection } from "../lib/connection.svelte";
  import { about, bytesText, percent } from "../lib/format";
  import { follow } from "../lib/router.svelte";
  import { Renders } from "./renders.svelte";

  const { jobId }: { jobId: number } = $props();
  const renders = $derived(new Renders(jobId));
  let dragged = $state<number | null>(null);

  $effect(() => {
    if (connection.returns >= 0) untrack(() => void renders.load());
  });
  $effect(() => renders.follow());

  function left(render: Render): string {
    if (render.paused) return "held back";
    return render.seconds_left === null ? "not known yet" : about(render.seconds_left);
  }

  function verdict(render: Render): string {
    const outside = (render.report?.findings ?? []).filter((f) => f.outside).map((f) => f.kind);
    const where = render.report?.grain_beside ? " under the grain" : "";
    return outside.length ? `still outside${where}: ${outside.join(", ")}` : `inside all tolerances${where}`;
  }

  function drop(event: DragEvent, before: number | null) {
    event.preventDefault();
    if (dragged !== null && dragged !== before) void renders.move(dragged, before);
    dragged = null;
  }
</script>

<svelte:head><title>Renders · {renders.job?.name ?? ""} · Yellow Clean</title></svelte:head>

{#snippet head(title: string, right = false)}
  <th class={["py-1 pr-3 font-semibold", right && "text-right"]}>{title}</th>
{/snippet}

{#snippet shotAndPlan(render: Render)}
  <td class="py-1 pr-3"
    ><a href={`/shots/${render.shot_id}`} onclick={follow} class="hover:underline">{render.shot_name}</a></td
  >
  <td class="py-1 pr-3">{render.label}</td>
{/snippet}

<main class="flex h-full flex-col">
  <header class="flex flex-wrap items-center gap-x-4 gap-y-1.5 px-5 py-2.5 perforated">
    <h1 class="text-lg font-semibold">Renders of “{renders.job?.name ?? "…"}”</h1>
    <span class="grow"></span>
    <a href={`/jobs/${jobId}`} onclick={follow} class="btn btn-sm">All shots</a>
    {#if renders.ended.some((render) => render.state === "done")}
      <a class="btn btn-sm" href={`/api/jobs/${jobId}/note`} target="_blank" rel="noreferrer">Delivery note</a
      >
      <a class="btn btn-primary btn-sm" href={`/api/jobs/${jobId}/delivery`} download>Note and timeline</a>
    {/if}
  </header>

  <div class="min-h-0 grow overflow-y-auto px-5 py-3">
    <section aria-labelledby="queue-title">
      <h2 id="queue-title" class="text-base font-semibold">Queue</h2>
      {#if renders.waiting.length}
        <p class="pb-2 text-[13px] text-quiet">
          <span class="figure">{renders.waiting.length}</span> to write,
          {renders.secondsLeft === null
            ? "how long is known once the first of their kind are done"
            : `${about(renders.secondsLeft)} left`}, about {bytesText(renders.room)} of disk while they are written.
          Drag rows, or use their arrows, to change the order.
        </p>
        <table class="w-full text-[13px]" data-testid="queue">
          <thead class="text-left">
            <tr class="border-b border-base-content">
              <th class="w-16 py-1 font-semibold">Order</th>
              {@render head("Shot")}
              {@render head("Plan")}
              {@render head("Format")}
              {@render head("Frames", true)}
              {@render head("Progress")}
              {@render head("Time left")}
              {@render head("Disk", true)}
              <th></th>
            </tr>
          </thead>
          <tbody>
            {#each renders.waiting as render (render.id)}
              {@const queued = render.state === "queued"}
              <tr
                class={["border-b border-rule", dragged === render.id && "bg-base-200"]}
                data-render={render.state}
                draggable={queued}
                ondragstart={() => (dragged = render.id)}
                ondragover={(event) => queued && event.preventDefault()}
                ondrop={(event) => drop(event, render.id)}
              >
                <td class="py-1 whitespace-nowrap">
                  {#if queued}
                    <button
                      class="btn btn-square btn-xs"
                      aria-label={`Write ${render.shot_name} ${render.format} earlier`}
                      onclick={() => renders.shift(render, -1)}>↑</button
                    >
                    <button
                      class="btn btn-square btn-xs"
                      aria-label={`Write ${render.shot_name} ${render.format} later`}
                      onclick={() => renders.shift(render, 1)}>↓</button
                    >
                  {/if}
                </td>
                {@render shotAndPlan(render)}
                <td class="py-1 pr-3">{render.format}</td>
                <td class="py-1 pr-3 text-right figure">{render.stop - render.first}</td>
                <td class="py-1 pr-3 whitespace-nowrap">
                  <progress class="progress w-28" max="1" value={render.progress} aria-label="Progress"
                  ></progress>
                  <span class="figure">{queued ? "waits" : percent(render.progress)}</span>
                  {#if render.message}<p class="text-[13px] whitespace-normal outside">
                      {render.message}
                    </p>{/if}
                </td>
                <td class="py-1 pr-3 whitespace-nowrap">{left(render)}</td>
                <td class="py-1 pr-3 text-right figure whitespace-nowrap"
                  >{render.needed_bytes === null ? "" : bytesText(render.needed_bytes)}</td
                >
                <td class="py-1 text-right whitespace-nowrap">
                  {#if render.paused}
                    <button class="btn btn-xs" onclick={() => renders.goOn(render)}>Go on</button>
                  {:else}
                    <button class="btn btn-xs" onclick={() => renders.pause(render)}>Hold back</button>
                  {/if}
                  <button
                    class="btn btn-xs"
                    disabled={render.cancel_requested}
                    onclick={() => renders.cancel(render)}
                    >{render.cancel_requested ? "Stopping …" : "Cancel"}</button
                  >
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      {:else if renders.loaded}
        <p class="pb-2 text-quiet">Nothing waits to be written.</p>
      {/if}
    </section>

    <section class="pt-5" aria-labelledby="written-title">
      <h2 id="written-title" class="text-base font-semibold">Written</h2>
      {#if renders.ended.length}
        <table class="w-full text-[13px]" data-testid="written">
          <thead class="text-left">
            <tr class="border-b border-base-content">
              {@render head("Shot")}
              {@render head("Plan")}
              {@render head("File")}
              {@render head("Frames", true)}
              {@render head("Size", true)}
              {@render head("Measured in the file")}
              {@render head("Overwork")}
              <th></th>
            </tr>
          </thead>
          <tbody>
            {#each renders.ended as render (render.id)}
              {@const report = render.report}
              {@const still = report?.findings?.some((f) => f.outside)}
              <tr class="border-b border-rule align-top" data-render={render.state}>
                {@render shotAndPlan(render)}
                <td class="py-1 pr-3"
                  ><span class="wrap-anywhere">{render.file_name || render.name}</span>
                  <span class="text-quiet">{report?.format ?? render.format}</span>{#if render.out}<span
                      class="block text-quiet">in {render.out}</span
                    >{/if}</td
                >
                <td class="py-1 pr-3 text-right figure">{render.stop - render.first}</td>
                <td class="py-1 pr-3 text-right figure whitespace-nowrap"
                  >{report?.size_bytes ? bytesText(report.size_bytes) : ""}</td
                >
                {#if render.state === "done"}
                  <td class="py-1 pr-3"
                    ><span class={[still && "outside"]}
                      >{report?.findings?.length ? verdict(render) : "was not measured before"}</span
                    ></td
                  >
                  <td class="py-1 pr-3">{report?.overwork?.summary ?? ""}</td>
                {:else}
                  <td class="py-1 pr-3" colspan="2">{render.state}. {render.message}</td>
                {/if}
                <td class="py-1 text-right whitespace-nowrap">
                  {#if render.state === "done"}
                    <a class="btn btn-primary btn-xs" href={`/api/renders/${render.id}/file`} download
                      >Download</a
                    >
                    <button
                      class="btn btn-xs"
                      title="The shot reads this file from now on; its own plan is kept and can be taken back"
                      aria-label={`Use ${render.file_name} as source`}
                      onclick={() => renders.standIn(render)}>Use as source</button
                    >
                  {:else}
                    <button class="btn btn-xs" onclick={() => renders.goOn(render)}>Start again</button>
                  {/if}
                  <button
                    class="btn btn-xs"
                    aria-label={`Delete ${render.shot_name} ${render.format}`}
                    onclick={() => renders.remove(render)}>Delete</button
                  >
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      {:else if renders.loaded}
        <p class="text-quiet">
          Nothing is written yet. Render from the shots’ page, or from a shot on the Bench.
        </p>
      {/if}
    </section>
  </div>
</main>
