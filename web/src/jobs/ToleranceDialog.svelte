<script lang="ts">
  import type { Jobs } from "./jobs.svelte";

  const { jobs }: { jobs: Jobs } = $props();
  let dialog = $state<HTMLDialogElement>();
  let values = $state<Record<string, number>>({});

  export function show(): void {
    const own = jobs.open?.tolerances ?? {};
    values = Object.fromEntries(jobs.kinds.map((k) => [k.kind, own[k.kind] ?? k.tolerance]));
    dialog?.showModal();
  }

  function keep(event: SubmitEvent) {
    event.preventDefault();
    void jobs.setTolerances($state.snapshot(values));
    dialog?.close();
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="tolerance-title">
  <form class="modal-box max-w-lg" onsubmit={keep}>
    <h2 id="tolerance-title" class="pb-2 text-base font-semibold perforated">
      Tolerances of “{jobs.open?.name}”
    </h2>
    <p class="py-2 text-quiet">
      A finding above its tolerance asks for treatment. Measurements stay; they are held against these.
    </p>
    <div class="grid max-h-96 grid-cols-[1fr_6rem_8rem_auto] items-center gap-x-3 gap-y-1 overflow-y-auto">
      {#each jobs.kinds as kind (kind.kind)}
        <label for={`tolerance-${kind.kind}`} class="first-letter:uppercase">{kind.kind}</label>
        <input
          id={`tolerance-${kind.kind}`}
          class="input text-right figure input-xs"
          type="number"
          min="0"
          step="any"
          required
          bind:value={values[kind.kind]}
        />
        <span class="text-quiet">{kind.unit}</span>
        <button
          type="button"
          class="text-[13px] underline disabled:text-quiet disabled:no-underline"
          disabled={values[kind.kind] === kind.tolerance}
          onclick={() => (values[kind.kind] = kind.tolerance)}>default {kind.tolerance}</button
        >
      {/each}
    </div>
    <div class="mt-3 flex justify-end gap-2">
      <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
      <button class="btn btn-primary btn-sm">Keep these</button>
    </div>
  </form>
</dialog>
