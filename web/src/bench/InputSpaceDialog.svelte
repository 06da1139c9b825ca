<script lang="ts">
  import { api, asked } from "../api/client";
  import { notices } from "../lib/notices.svelte";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  let dialog = $state<HTMLDialogElement>();
  let spaces = $state<string[]>([]);
  let chosen = $state("");
  let wholeCamera = $state(true);
  const found = $derived(bench.shot?.input_space);
  const camera = $derived(bench.shot?.media.camera ?? "");

  export function show(): void {
    chosen = found?.sure === "chosen" ? found.space : "";
    wholeCamera = camera !== "";
    void notices.watch(async () => {
      spaces = await asked(api.GET("/api/spaces"));
    });
    dialog?.showModal();
  }

  function keep(event: SubmitEvent) {
    event.preventDefault();
    void bench.chooseInputSpace(chosen, wholeCamera);
    dialog?.close();
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="input-space-title">
  <form class="modal-box max-w-lg" onsubmit={keep}>
    <h2 id="input-space-title" class="pb-2 text-base font-semibold perforated">
      What the values of “{bench.shot?.name}” are in
    </h2>
    {#if found}
      <p class="py-2">
        Taken for <strong>{found.space}</strong>, {found.why}.
        {#if found.missing?.length}The file names no {found.missing.join(", no ")}.{/if}
        {#each found.contradictions ?? [] as odd (odd)}
          Its tags contradict each other: {odd}.
        {/each}
      </p>
    {/if}
    <label for="input-space" class="font-semibold">Input space</label>
    <select id="input-space" class="select mt-1 w-full select-sm" bind:value={chosen}>
      <option value="">As the file says</option>
      {#each spaces as name (name)}<option value={name}>{name}</option>{/each}
    </select>
    {#if camera}
      <label class="mt-2 flex items-center gap-2">
        <input type="checkbox" class="checkbox checkbox-xs" bind:checked={wholeCamera} />
        <span>For all shots of {camera}, and those to come</span>
      </label>
    {:else}
      <p class="mt-2 text-[13px] text-quiet">The file names no camera: it is kept for this shot alone.</p>
    {/if}
    <p class="mt-2 text-[13px] text-quiet">
      Looks, conversions, and the tags of what is written go by it. The picture’s values stay as they are;
      what was measured is measured again.
    </p>
    <div class="mt-3 flex justify-end gap-2">
      <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
      <button class="btn btn-primary btn-sm">Take this</button>
    </div>
  </form>
</dialog>
