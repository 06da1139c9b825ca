<script lang="ts">
  import { tick } from "svelte";
  import { api, asked, type Proposal, type Wishes } from "../api/client";
  import { short } from "../lib/format";
  import { notices } from "../lib/notices.svelte";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  let dialog = $state<HTMLDialogElement>();
  let accept = $state<HTMLButtonElement>();
  let proposal = $state.raw<Proposal | null>(null);
  let taken = $state<number[]>([]);
  let weighing = $state(false);
  let questions = 0;
  let wishes = $state<Wishes>({ sharpen: false, factor: null });
  const steps = $derived(proposal?.plan.steps ?? []);
  const sizes = [
    [null, "as it is"],
    [0.5, "½ ×"],
    [1.5, "1.5 ×"],
    [2, "2 ×"],
    [3, "3 ×"],
    [4, "4 ×"],
  ] as const;

  /** Ask what would be done, and say it before anything is. */
  export async function show() {
    proposal = null;
    wishes = { sharpen: false, factor: null };
    dialog?.showModal();
    await weigh();
    await tick();
    accept?.focus();
  }

  /** Of several questions only the last one's answer counts. */
  async function weigh() {
    const question = ++questions;
    weighing = true;
    await notices.watch(async () => {
      const query = { profile_id: bench.profileId, ...wishes };
      const params = { path: { shot_id: bench.id }, query };
      const answer = await asked(api.GET("/api/shots/{shot_id}/proposal", { params }));
      if (question !== questions) return;
      taken = (answer.plan.steps ?? []).map((_, k) => k);
      proposal = answer;
    });
    if (question === questions) weighing = false;
  }

  function take(event: SubmitEvent) {
    event.preventDefault();
    dialog?.close();
    void bench.propose([...taken], { ...wishes });
  }

  function titleOf(kind: string): string {
    return bench.treatments.find((t) => t.kind === kind)?.title ?? kind;
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="proposal-title">
  <form class="modal-box max-w-xl" onsubmit={take}>
    <h2 id="proposal-title" class="pb-2 text-base font-semibold perforated">What would be done</h2>
    {#if proposal}
      {#if steps.length}
        <ol class="py-2">
          {#each steps as step, k (k)}
            <li>
              <label class="flex items-start gap-2 py-1">
                <input type="checkbox" class="checkbox mt-0.5 checkbox-xs" value={k} bind:group={taken} />
                <span><strong>{k + 1}. {titleOf(step.kind)}.</strong> {step.reason}</span>
              </label>
            </li>
          {/each}
        </ol>
      {:else}
        <p class="py-2">
          {proposal.untreated.length
            ? "No step: nothing that lies outside can be treated here."
            : "No step: nothing lies outside its tolerance."}
        </p>
      {/if}
      {#if proposal.untreated.length}
        <h3 class="border-t border-rule pt-2 font-semibold">What no step treats</h3>
        <ul class="pb-2" data-testid="untreated">
          {#each proposal.untreated as finding (finding.kind)}
            <li class="py-1">
              <strong class="inline-block first-letter:uppercase">{finding.kind}</strong>
              <span class="figure outside">{short(finding.value)}</span> of {finding.tolerance}
              {finding.unit}.
              {finding.instead}
            </li>
          {/each}
        </ul>
      {/if}
      <fieldset class="flex flex-wrap items-center gap-x-6 gap-y-1 border-t border-rule py-2">
        <legend class="sr-only">Asked for besides</legend>
        <label class="flex items-center gap-2">
          <input
            type="checkbox"
            class="checkbox checkbox-xs"
            bind:checked={wishes.sharpen}
            onchange={weigh}
          />
          Undo the measured blur, even inside its tolerance
        </label>
        <label class="flex items-center gap-2">
          Size
          <select class="select w-24 select-xs" bind:value={wishes.factor} onchange={weigh}>
            {#each sizes as [factor, name] (factor)}<option value={factor}>{name}</option>{/each}
          </select>
        </label>
      </fieldset>
    {:else}
      <p class="py-3">Weighing the findings …</p>
    {/if}
    <div class="flex justify-end gap-2 pt-2">
      <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
      <button class="btn btn-primary btn-sm" bind:this={accept} disabled={!proposal || weighing}
        >{steps.length && taken.length < steps.length
          ? `Make a plan of ${taken.length} of ${steps.length}`
          : "Make this plan"}</button
      >
    </div>
  </form>
</dialog>
