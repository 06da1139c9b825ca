<script lang="ts">
  import { short } from "../lib/format";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  let name = $state("");

  function save(event: SubmitEvent) {
    event.preventDefault();
    if (name.trim()) void bench.saveProfile(name.trim());
    name = "";
  }
</script>

<label class="mt-2 flex items-center gap-2">
  <span class="whitespace-nowrap">Propose by</span>
  <select
    class="select grow select-xs"
    value={bench.profileId === null ? "own" : String(bench.profileId)}
    onchange={(event) =>
      bench.useProfile(event.currentTarget.value === "own" ? null : Number(event.currentTarget.value))}
  >
    <option value="own">this shot's own noise</option>
    {#each bench.profiles as profile (profile.id)}
      <option value={String(profile.id)}>{profile.name} ({short(profile.luma_cv)} CV)</option>
    {/each}
  </select>
</label>
{#if bench.profileId !== null && bench.profileId === bench.shot?.matching_profile}
  <p class="text-[13px] text-quiet" data-testid="match">
    Chosen by the file: {[bench.shot.media.camera, bench.shot.media.gain].filter(Boolean).join(", ")}.
  </p>
{/if}
{#if bench.fit}
  <p class={["text-[13px]", bench.fit.fits && "text-quiet"]} data-testid="fit">{bench.fit.advice}</p>
{/if}
<form class="mt-1 flex gap-2" onsubmit={save}>
  <input
    class="input grow input-xs"
    placeholder="Name, for example camera and ISO"
    aria-label="Name of the noise profile"
    bind:value={name}
  />
  <button class="btn btn-xs" disabled={!name.trim()}>Save profile</button>
</form>
