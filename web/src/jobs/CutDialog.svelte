<script lang="ts">
  import { pictureAddress, SOURCE, type Shot } from "../api/client";
  import type { Jobs } from "./jobs.svelte";

  /** The cuts of a long file before it is cut into shots: found ones can be left out, others put in. */
  const { jobs }: { jobs: Jobs } = $props();
  let dialog = $state<HTMLDialogElement>();
  let shot = $state<Shot | null>(null);
  let cuts = $state<{ at: number; wanted: boolean; by: "found" | "by hand" }[]>([]);
  let another = $state<number>();
  const PICTURE_WIDTH = 208;
  const wanted = $derived(cuts.filter((cut) => cut.wanted));
  const frames = $derived(shot?.media.frames ?? 1);
  const fits = $derived(
    another !== undefined &&
      Number.isInteger(another) &&
      another >= 1 &&
      another < frames &&
      !cuts.some((cut) => cut.at === another),
  );

  export function show(of: Shot): void {
    shot = of;
    cuts = (of.cuts ?? []).map((at) => ({ at, wanted: true, by: "found" }));
    another = undefined;
    dialog?.showModal();
  }

  function add() {
    if (!fits || another === undefined) return;
    cuts = [...cuts, { at: another, wanted: true, by: "by hand" as const }].toSorted((a, b) => a.at - b.at);
    another = undefined;
  }

  function keep(event: SubmitEvent) {
    event.preventDefault();
    if (!shot || !wanted.length) return;
    void jobs.cutInto(
      shot,
      wanted.map((cut) => cut.at),
    );
    dialog?.close();
  }

  function picture(of: Shot, n: number): string {
    return pictureAddress(of, SOURCE, { n, scale: Math.min(1, (2 * PICTURE_WIDTH) / of.media.width) });
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="cut-title">
  {#if shot}
    <form class="modal-box max-w-2xl" onsubmit={keep}>
      <h2 id="cut-title" class="pb-2 text-base font-semibold perforated">Cut “{shot.name}” into shots</h2>
      <p class="py-2">
        {#if cuts.length}
          <span class="figure">{wanted.length}</span> of <span class="figure">{cuts.length}</span> cuts make
          <span class="figure">{wanted.length + 1}</span> shots.
        {:else if shot.findings}
          No cut was found in <span class="figure">{frames}</span> frames. Name one by hand.
        {:else}
          Cuts are found when the shot is measured. Until then, name them by hand.
        {/if}
        <span class="text-quiet"
          >The shots take the place of the whole, which comes back when they are taken back.</span
        >
      </p>
      <ul class="max-h-96 overflow-y-auto">
        {#each cuts as cut (cut.at)}
          <li class="flex items-center gap-4 border-b border-rule py-1.5">
            <label class="flex w-36 items-center gap-2">
              <input type="checkbox" class="checkbox checkbox-xs" bind:checked={cut.wanted} />
              <span
                >frame <span class="figure">{cut.at}</span><br /><span class="text-quiet">{cut.by}</span
                ></span
              >
            </label>
            {#each [cut.at - 1, cut.at] as n, side (n)}
              <figure class="text-[12px] text-quiet">
                <img
                  src={picture(shot, n)}
                  width={PICTURE_WIDTH}
                  alt={side ? `First frame of the next shot, ${n}` : `Last frame of the shot, ${n}`}
                  loading="lazy"
                />
                <figcaption>{side ? "begins with" : "ends with"} {n}</figcaption>
              </figure>
            {/each}
          </li>
        {/each}
      </ul>
      <div class="mt-3 flex items-center gap-2">
        <label for="cut-another">Another cut before frame</label>
        <input
          id="cut-another"
          class="input w-24 text-right figure input-xs"
          type="number"
          min="1"
          max={frames - 1}
          bind:value={another}
          onkeydown={(event) => {
            if (event.key !== "Enter") return;
            event.preventDefault();
            add();
          }}
        />
        <button type="button" class="btn btn-xs" disabled={!fits} onclick={add}>Add</button>
        <span class="grow"></span>
        <button type="button" class="btn btn-sm" onclick={() => dialog?.close()}>Close</button>
        <button class="btn btn-primary btn-sm" disabled={!wanted.length}
          >Make {wanted.length + 1} shots</button
        >
      </div>
    </form>
  {/if}
</dialog>
