<script lang="ts">
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  let dialog = $state<HTMLDialogElement>();
  const label = $derived(bench.versions.clashing?.label ?? "");

  $effect(() => {
    if (bench.versions.clashing) dialog?.showModal();
    else dialog?.close();
  });
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="clash-title" oncancel={(e) => e.preventDefault()}>
  <div class="modal-box max-w-lg">
    <h2 id="clash-title" class="pb-2 text-base font-semibold perforated">Changed in two windows</h2>
    <p class="py-3">
      Version {label} was changed from another window after this one had read it. Nothing is lost yet: what do you
      want to keep?
    </p>
    <div class="flex justify-end gap-2">
      <button class="btn btn-sm" onclick={bench.versions.keepTheirs}>The other window's</button>
      <button class="btn btn-sm" onclick={bench.versions.keepMine}>Mine in its place</button>
      <button class="btn btn-primary btn-sm" onclick={bench.versions.keepBoth}
        >Both: mine as a new version</button
      >
    </div>
  </div>
</dialog>
