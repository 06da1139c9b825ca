<script lang="ts">
  import { untrack } from "svelte";
  import type { Shot } from "../api/client";
  import { nearing } from "../lib/nearing";
  import { percent, rateText, short } from "../lib/format";
  import { follow } from "../lib/router.svelte";
  import type { Jobs } from "./jobs.svelte";
  import { stateOf } from "./state";

  /** The shots as rows, their figures in columns that can be sorted by. */
  const { jobs }: { jobs: Jobs } = $props();
  const kinds = $derived(
    jobs.kinds.filter(({ kind }) =>
      jobs.shots.some((s) => s.findings?.some((f) => f.kind === kind && f.outside)),
    ),
  );
  const units = $derived(new Map(jobs.kinds.map(({ kind, unit }) => [kind, unit])));
  const rising = new Set(["reel", "name", "group"]);
  const all = $derived(jobs.shown.length > 0 && jobs.shown.every((shot) => jobs.picked.has(shot.id)));

  // anew whenever a shot was measured
  const measured = $derived(jobs.shots.map((shot) => (shot.findings ? shot.survey?.id : 0)).join());
  $effect(() => {
    const job = jobs.shotsOf;
    if (job !== null && measured) untrack(() => void jobs.loadGroups(job));
  });

  function finding(shot: Shot, kind: string) {
    return shot.findings?.find((found) => found.kind === kind);
  }

  function pickAll() {
    if (all) jobs.picked.clear();
    else for (const shot of jobs.shown) jobs.picked.add(shot.id);
  }
</script>

{#snippet head(name: string, title: string, unit = "")}
  <th
    class={["py-1 pr-3 font-semibold", unit && "text-right"]}
    aria-sort={jobs.sort === name ? (rising.has(name) ? "ascending" : "descending") : undefined}
  >
    <button
      class={["first-letter:uppercase hover:underline", unit ? "text-right" : "text-left"]}
      onclick={() => (jobs.sort = name)}
      >{title}{jobs.sort === name ? (rising.has(name) ? " ↑" : " ↓") : ""}</button
    >
    {#if unit}<span class="block text-[12px] font-normal text-quiet">{unit}</span>{/if}
  </th>
{/snippet}

<div class="min-h-0 grow overflow-auto px-5 pb-6">
  <table class="w-full text-[13px]" data-testid="shot-table">
    <thead class="sticky top-0 bg-base-100 text-left align-bottom shadow-[0_1px_0_#161616]">
      <tr>
        <th class="py-1 pr-2">
          <input
            type="checkbox"
            class="checkbox checkbox-xs"
            aria-label="Choose all that are shown"
            checked={all}
            onchange={pickAll}
          />
        </th>
        {@render head("reel", "Event")}
        {@render head("name", "Shot")}
        {@render head("frames", "Frames", "with handles")}
        <th class="py-1 pr-3 font-semibold">Footage</th>
        {#if jobs.groups.length > 1}{@render head("group", "Noise of")}{/if}
        {#each kinds as { kind } (kind)}{@render head(kind, kind, units.get(kind) || "count")}{/each}
        <th class="py-1 pr-3 font-semibold">Plan</th>
        {#if Object.keys(jobs.verdicts).length}<th class="py-1 pr-3 font-semibold">Overwork</th>{/if}
        <th class="py-1 font-semibold">State</th>
      </tr>
    </thead>
    <tbody>
      {#each jobs.inSight as shot (shot.id)}
        {@const media = shot.media}
        <tr class={["border-b border-rule", jobs.picked.has(shot.id) && "bg-base-200"]}>
          <td class="py-1 pr-2">
            <input
              type="checkbox"
              class="checkbox checkbox-xs"
              aria-label={`Choose ${shot.name}`}
              checked={jobs.picked.has(shot.id)}
              onchange={() => jobs.pick(shot.id)}
            />
          </td>
          <td class="py-1 pr-3 figure">{shot.place?.number ?? ""}</td>
          <td class="py-1 pr-3"
            ><a href={`/shots/${shot.id}`} onclick={follow} class="font-semibold hover:underline"
              >{shot.name}</a
            >{#if shot.made_of}<span class="block text-[12px] text-quiet">{shot.made_of}</span>{/if}</td
          >
          <td class="py-1 pr-3 text-right figure">{media.frames}</td>
          <td class="py-1 pr-3 whitespace-nowrap text-quiet"
            >{media.width}×{media.height} · {rateText(media.rate)} · {media.codec}</td
          >
          {#if jobs.groups.length > 1}
            {@const group = jobs.groupOf[shot.id]}
            <td
              class="py-1 pr-3 whitespace-nowrap"
              title={group && `Shots of one camera and setting: σ ${short(group.luma_cv)} CV in luma`}
              >{group ? `group ${group.name}` : ""}</td
            >
          {/if}
          {#each kinds as { kind } (kind)}
            {@const found = finding(shot, kind)}
            <td class="py-1 pr-3 text-right figure">
              {#if found}<span class={[found.outside && "outside"]}
                  >{short(found.remaining ?? found.value)}</span
                >
              {:else}<span class="text-quiet">–</span>{/if}
            </td>
          {/each}
          <td class="py-1 pr-3">{shot.versions.join(", ")}</td>
          {#if Object.keys(jobs.verdicts).length}
            {@const judged = jobs.verdicts[shot.newest_version ?? 0]}
            <td class="py-1 pr-3" title={judged?.summary}
              >{#if judged}<span class={[judged.verdict !== "fine" && "outside"]}>{judged.verdict}</span
                >{/if}</td
            >
          {/if}
          <td class="py-1"
            >{stateOf(shot)}
            {#if shot.survey?.state === "running"}<span class="figure">{percent(shot.survey.progress)}</span>
            {:else if shot.render?.state === "running"}<span class="figure"
                >{percent(shot.render.progress)}</span
              >{/if}</td
          >
        </tr>
      {/each}
      {#if jobs.inSight.length < jobs.shown.length}<tr use:nearing={jobs.drawMore}><td class="h-8"></td></tr
        >{/if}
    </tbody>
  </table>
</div>
