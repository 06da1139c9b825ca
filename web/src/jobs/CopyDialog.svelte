<script lang="ts">
  import { api, asked, type ShotDetail } from "../api/client";
  import { notices } from "../lib/notices.svelte";
  import type { Jobs } from "./jobs.svelte";

  /** What one shot has, given to the others that are chosen: steps of a version, and the look. */
  const { jobs }: { jobs: Jobs } = $props();
  let dialog = $state<HTMLDialogElement>();
  let from = $state<number | null>(null);
  let shot = $state.raw<ShotDetail | null>(null);
  let version = $state<number | null>(null);
  let withLook = $state(false);
  const others = $derived(jobs.chosenShots.filter((each) => each.id !== from));
  const measured = $derived(others.filter((each) => each.findings));
  const steps = $derived(shot?.plans.find((plan) => plan.id === version)?.plan.steps ?? []);
  const ready = $derived(
    shot !== null && ((steps.length > 0 && measured.length > 0) || (withLook && others.length > 0)),
  );

  export function show(): void {
    const first = jobs.shots.find((each) => each.versions.length) ?? jobs.shots[0];
    from = first?.id ?? null;
    withLook = false;
    void look();
    dialog?.showModal();
  }

  /** Have the chosen shot with its plans and its look. */
  const look = () =>
    notices.watch(async () => {
      shot = null;
      if (from === null) return;
      const params = { path: { shot_id: from } };
      shot = await asked(api.GET("/api/shots/{shot_id}", { params }));
      version = shot.plans.at(-1)?.id ?? null;
    });

  function keep(event: SubmitEvent) {
    event.preventDefault();
    const source = shot;
    dialog?.close();
    if (!source) return;
    const label = source.plans.find((plan) => plan.id === version)?.label ?? "";
    if (steps.length) void jobs.applySteps(measured, steps, `from ${source.name}, ${label}`);
    if (withLook) void jobs.copyLook(source.id, others);
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="copy-title">
  <form class="modal-box max-w-lg" onsubmit={keep}>
    <h2 id="copy-title" class="pb-2 text-base font-semibold perforated">Copy from a shot</h2>
    <div class="grid grid-cols-[5rem_1fr] items-center gap-x-3 gap-y-2 py-3">
      <label for="copy-from">Shot</label>
      <select id="copy-from" class="select w-full select-sm" bind:value={from} onchange={() => void look()}>
        {#each jobs.shots as each (each.id)}<option value={each.id}>{each.name}</option>{/each}
      </select>
      <label for="copy-version">Steps of</label>
      <select id="copy-version" class="select w-full select-sm" bind:value={version}>
        <option value={null}>no plan</option>
        {#each shot?.plans ?? [] as plan (plan.id)}
          <option value={plan.id}>{plan.label}, {plan.plan.steps?.length ?? 0} steps</option>
        {/each}
      </select>
      <span>Look</span>
      <label class="flex items-center gap-2">
        <input type="checkbox" class="checkbox checkbox-xs" bind:checked={withLook} />
        its look too, where colour is managed from each shot's own space
      </label>
    </div>
    <p class="text-[13px] text-quiet">
      {#if steps.length}
        <span class="figure">{measured.length}</span>
        {measured.length === 1 ? "shot gets" : "shots get"} the steps as a new version, by the shot's own noise.
        {#if others.length > measured.length}{others.length - measured.length} are not measured yet and get none.{/if}
      {/if}
      {#if withLook}<span class="figure">{others.length}</span>
        {others.length === 1 ? "gets" : "get"} the look.{/if}
      {#if !steps.length && !withLook}Choose a version, the look, or both.{/if}
    </p>
    <div class="mt-3 flex justify-end gap-2">
      <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
      <button class="btn btn-primary btn-sm" disabled={!ready}>Copy to {others.length}</button>
    </div>
  </form>
</dialog>
