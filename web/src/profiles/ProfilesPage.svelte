<script lang="ts">
  import { api, asked, type Profile } from "../api/client";
  import Chart, { type Line } from "../lib/Chart.svelte";
  import { percent, short } from "../lib/format";
  import { connection } from "../lib/connection.svelte";
  import { notices } from "../lib/notices.svelte";
  import { follow } from "../lib/router.svelte";

  let profiles = $state<Profile[]>([]);
  let search = $state("");
  let loaded = $state(false);
  let picker = $state<HTMLInputElement>();

  /** Profiles whose curves are laid over one another, the newest choice last. */
  let shown = $state<number[]>([]);
  const MOST_SHOWN = 2;
  const DASHES = [undefined, [6, 3]];
  const LEAST_SHARE = 0.005;

  const curves = $derived(
    profiles
      .filter((profile) => shown.includes(profile.id))
      .map(({ name, curve }) => ({
        name,
        points: new Map(
          curve.level_cv
            .map((level, k) => [level, curve.luma_cv[k] ?? 0, curve.share[k] ?? 0] as const)
            .filter(([, , share]) => share >= LEAST_SHARE)
            .map(([level, sigma]) => [level, sigma]),
        ),
      })),
  );
  const levels = $derived([...new Set(curves.flatMap((c) => [...c.points.keys()]))].sort((a, b) => a - b));
  const lines = $derived(
    curves.map((c, k): Line => ({
      name: c.name,
      values: levels.map((level) => c.points.get(level) ?? null),
      dash: DASHES[k],
    })),
  );

  function toggle(id: number) {
    shown = shown.includes(id) ? shown.filter((other) => other !== id) : [...shown, id].slice(-MOST_SHOWN);
  }

  const load = () =>
    notices.watch(async () => {
      profiles = await asked(api.GET("/api/profiles", { params: { query: { search } } }));
      loaded = true;
      if (!shown.length) shown = profiles.slice(0, 1).map((profile) => profile.id);
    });

  const change = (profile: Profile, field: "name" | "camera" | "gain" | "notes", value: string) =>
    notices.watch(async () => {
      const { name, camera, gain, notes }: Profile = Object.assign({}, profile, { [field]: value });
      const params = { path: { profile_id: profile.id } };
      const body = { name, camera: camera ?? "", gain: gain ?? "", notes: notes ?? "" };
      Object.assign(profile, await asked(api.PATCH("/api/profiles/{profile_id}", { params, body })));
    });

  const remove = (profile: Profile) =>
    notices.watch(async () => {
      await asked(api.DELETE("/api/profiles/{profile_id}", { params: { path: { profile_id: profile.id } } }));
      profiles = profiles.filter((p) => p.id !== profile.id);
    });

  const bring = (files: File[]) =>
    notices.watch(async () => {
      for (const file of files) {
        const address = `/api/profiles/import?name=${encodeURIComponent(file.name)}`;
        const answer = await connection.fetch(address, { method: "POST", body: await file.text() });
        if (!answer.ok) throw new Error(((await answer.json()) as { detail: string }).detail);
      }
      await load();
    });

  void load();
  const TAGS = ["name", "camera", "gain", "notes"] as const;
  const titles = { name: "Name", camera: "Camera", gain: "ISO or gain", notes: "Notes" };
</script>

<svelte:head><title>Noise profiles · Yellow Clean</title></svelte:head>

<main class="flex h-full flex-col">
  <header class="flex flex-wrap items-center gap-x-4 gap-y-1.5 px-5 py-2.5 perforated">
    <a href="/" onclick={follow} class="btn btn-sm">All jobs</a>
    <h1 class="grow text-lg font-semibold">Noise profiles</h1>
    <input
      class="input w-64 input-sm"
      type="search"
      placeholder="Search name, camera, gain, notes"
      aria-label="Search"
      bind:value={search}
      oninput={() => void load()}
    />
    <input
      bind:this={picker}
      type="file"
      accept=".json"
      multiple
      class="hidden"
      aria-label="Choose profile documents"
      onchange={(event) => void bring([...(event.currentTarget.files ?? [])])}
    />
    <button class="btn btn-sm" onclick={() => picker?.click()}>Import…</button>
  </header>
  <div class="min-h-0 grow overflow-y-auto px-5 py-3">
    {#if profiles.length}
      <table class="w-full text-left">
        <thead>
          <tr class="border-b border-rule">
            {#each TAGS as tag (tag)}<th class="py-1 pr-3 font-semibold">{titles[tag]}</th>{/each}
            <th class="py-1 pr-3 text-right font-semibold">Luma σ, CV</th>
            <th class="py-1 pr-3 text-right font-semibold">Colour σ, CV</th>
            <th class="py-1 pr-3 text-right font-semibold">Grain, px</th>
            <th class="py-1 pr-3 text-right font-semibold">Sure</th>
            <th><span class="sr-only">Actions</span></th>
          </tr>
        </thead>
        <tbody>
          {#each profiles as profile (profile.id)}
            <tr class="border-b border-rule" title={profile.origin}>
              {#each TAGS as tag (tag)}
                <td class="py-1 pr-3">
                  <input
                    class="input w-full input-xs"
                    value={profile[tag]}
                    aria-label={`${titles[tag]} of ${profile.name}`}
                    onchange={(event) => void change(profile, tag, event.currentTarget.value)}
                  />
                </td>
              {/each}
              <td class="py-1 pr-3 text-right figure">{short(profile.luma_cv)}</td>
              <td class="py-1 pr-3 text-right figure">{short(profile.chroma_cv)}</td>
              <td class="py-1 pr-3 text-right figure">{short(profile.grain_px)}</td>
              <td class="py-1 pr-3 text-right figure">{percent(profile.confidence)}</td>
              <td class="py-1 text-right whitespace-nowrap">
                <button
                  class={["btn btn-xs", shown.includes(profile.id) && "btn-active"]}
                  aria-pressed={shown.includes(profile.id)}
                  aria-label={`Curve of ${profile.name}`}
                  title="Show its curve; two lie over each other"
                  onclick={() => toggle(profile.id)}>Curve</button
                >
                <a class="btn btn-xs" href={`/api/profiles/${profile.id}/file`} download>Export</a>
                <button class="btn btn-xs" onclick={() => void remove(profile)}>Delete</button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
      {#if lines.length}
        <section class="max-w-3xl pt-4" aria-labelledby="curves-title">
          <h2 id="curves-title" class="font-semibold">Luma σ in CV over level in CV</h2>
          <Chart
            x={levels}
            xName="level"
            {lines}
            height={260}
            label="Luma sigma against level of the profiles chosen"
          />
        </section>
      {/if}
    {:else if loaded}
      <p class="py-24 text-center">
        {search
          ? "No profile matches."
          : "No profiles yet. Measure a shot and save its noise from the Bench; the same camera at the same setting has the same noise."}
      </p>
    {/if}
  </div>
</main>
