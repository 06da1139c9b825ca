<script lang="ts">
  import type { Dither, Wanted } from "../api/client";
  import DitherChoice from "../lib/DitherChoice.svelte";
  import type { Jobs } from "./jobs.svelte";

  /** How the shots of a job are written: formats, names, handles, place. */
  const { jobs }: { jobs: Jobs } = $props();
  let dialog = $state<HTMLDialogElement>();
  let formats = $state<string[]>([]);
  let template = $state("");
  let cut = $state(false);
  let bakeLook = $state(false);
  let dither = $state<Dither>("moving");
  let folder = $state("");
  const fields = $derived(Object.entries(jobs.choices?.fields ?? {}));

  export function show(): void {
    const wanted = jobs.open?.wanted;
    if (!wanted) return;
    formats = [...(wanted.formats ?? [])];
    template = wanted.template ?? "";
    cut = wanted.cut ?? false;
    bakeLook = wanted.bake_look ?? false;
    dither = wanted.dither ?? "moving";
    folder = wanted.folder ?? "";
    dialog?.showModal();
  }

  function keep(event: SubmitEvent) {
    event.preventDefault();
    const wanted: Wanted = { formats, template, cut, bake_look: bakeLook, dither, folder };
    void jobs.setWanted($state.snapshot(wanted));
    dialog?.close();
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="wanted-title">
  <form class="modal-box max-w-3xl" onsubmit={keep}>
    <h2 id="wanted-title" class="pb-2 text-base font-semibold perforated">
      How shots of “{jobs.open?.name}” are written
    </h2>
    <fieldset class="py-2">
      <legend class="pb-1">Each shot in these formats</legend>
      <div class="grid max-h-56 grid-cols-1 gap-x-4 overflow-y-auto sm:grid-cols-2">
        {#each jobs.choices?.formats ?? [] as format (format.name)}
          <label class="flex min-h-7 items-start gap-2 py-1">
            <input
              type="checkbox"
              class="checkbox mt-0.5 checkbox-xs"
              value={format.name}
              bind:group={formats}
            />
            <span>{format.title} <span class="text-quiet">{format.ending}</span></span>
          </label>
        {/each}
      </div>
    </fieldset>
    <div class="grid grid-cols-[7rem_1fr] items-center gap-x-3 gap-y-2 py-1">
      <label for="wanted-template">Names</label>
      <input id="wanted-template" class="input w-full figure input-sm" required bind:value={template} />
      <span></span>
      <p class="text-[13px] text-quiet">
        {#each fields as [name, says], k (name)}{k ? ", " : ""}<button
            type="button"
            class="figure hover:underline"
            title={`Add ${says}`}
            onclick={() => (template += `{${name}}`)}>{`{${name}}`}</button
          >
          {says}{/each}
      </p>
      <label for="wanted-cut">Length</label>
      <select id="wanted-cut" class="select select-sm" bind:value={cut}>
        <option value={false}>With handles</option>
        <option value={true}>Cut length</option>
      </select>
      <label for="wanted-folder">Into</label>
      <select id="wanted-folder" class="select select-sm" bind:value={folder}>
        <option value="">the application’s own folder, to be downloaded</option>
        {#each jobs.choices?.folders ?? [] as known (known)}<option value={known}>{known}</option>{/each}
      </select>
      <DitherChoice id="wanted-dither" bind:value={dither} />
    </div>
    <label class="flex items-center gap-2 py-1">
      <input type="checkbox" class="checkbox checkbox-xs" bind:checked={bakeLook} />
      Bake the looks in (without this the files keep the shots’ own values)
    </label>
    <div class="mt-3 flex justify-end gap-2">
      <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
      <button class="btn btn-primary btn-sm" disabled={!formats.length}>Keep these</button>
    </div>
  </form>
</dialog>
