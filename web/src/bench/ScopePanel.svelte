<script lang="ts">
  import { untrack } from "svelte";
  import Chart, { type Line } from "../lib/Chart.svelte";
  import { api, asked, placeQuery, SOURCE, type Histogram, type ScopeAxes, type Side } from "../api/client";
  import { connection } from "../lib/connection.svelte";
  import { notices } from "../lib/notices.svelte";
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  type Kind = "waveform" | "parade" | "vectorscope" | "gamut-xy" | "gamut-uv" | "histogram";
  const KINDS: [Kind, string][] = [
    ["waveform", "Waveform"],
    ["parade", "Parade"],
    ["vectorscope", "Vectorscope"],
    ["gamut-xy", "Gamut (xy)"],
    ["gamut-uv", "Gamut (u′v′)"],
    ["histogram", "Histogram"],
  ];
  const WIDTH = 296;
  const HEIGHT = 236;
  const LEFT = 36;
  /** Side of the square scopes: as high as the others, so that all of it is seen. */
  const SIDE = HEIGHT + 18;
  /** Scopes follow once the picture rests. */
  const AFTER_MS = 220;
  let kind = $state<Kind>("waveform");
  let part = $state<"frame" | "visible">("frame");
  let axes = $state<ScopeAxes | null>(null);
  let counts = $state.raw<Histogram | null>(null);
  let drawn = $state<{ kind: Kind; address: string } | null>(null);
  let computing = $state(false);
  const side = $derived<Side>(
    bench.version && bench.view !== "source"
      ? { kind: "version", version: bench.version, view: "result", step: 0 }
      : SOURCE,
  );
  const path = $derived.by(() => {
    if (!bench.shot || bench.player.playing) return null;
    const region = part === "visible" ? bench.visible : null;
    const query = placeQuery(bench.shot, side, { n: bench.n, region, look: bench.looks.on });
    return `/api/shots/${bench.shot.id}/${kind === "histogram" ? "histogram" : "scope"}?${query}`;
  });
  /** What decides the axes: the values that are shown. */
  const shown = $derived(
    bench.shot
      ? [
          bench.shot.picture_key,
          bench.looks.on ? bench.shot.look_key : "",
          side.kind === "version" ? side.version.key : "",
        ].join()
      : "",
  );
  /** The axes are those of the values that are shown: of HDR in light, else in code values. */
  $effect(() => {
    if (!shown) return;
    const version_id = untrack(() => (side.kind === "version" ? side.version.id : undefined));
    const query = { n: 0, look: untrack(() => bench.looks.on), version_id };
    const params = { path: { shot_id: bench.id }, query };
    void notices.watch(async () => {
      axes = await asked(api.GET("/api/shots/{shot_id}/scopes", { params }));
    });
  });
  const levels = $derived(axes?.rungs ?? []);
  const diagram = $derived(axes?.diagrams[kind === "gamut-xy" ? "xy" : "uv"]);
  const square = $derived(kind === "vectorscope" || kind.startsWith("gamut"));
  const most = $derived(
    Math.max(...(counts ? [...counts.source, ...(counts.result ?? [])].flat() : [1]).map(Math.log1p)),
  );

  /** The scope of now; none, while another kind is still drawn. */
  const address = $derived(drawn?.kind === kind ? drawn.address : "");

  $effect(() => {
    if (!path || connection.away) return;
    const [wanted, chosen] = [path, kind];
    const control = new AbortController();
    const later = setTimeout(() => {
      computing = true;
      void fetchScope(wanted, chosen, control.signal)
        .catch(() => undefined) // given up, or the server is away: the picture says so
        .finally(() => (computing = false));
    }, AFTER_MS);
    return () => {
      clearTimeout(later);
      control.abort();
    };
  });

  /** Ask for a scope; the one before stays until it is there. */
  async function fetchScope(path: string, chosen: Kind, signal: AbortSignal) {
    const picture = `${path}&kind=${chosen}`;
    const answer = await connection.fetch(chosen === "histogram" ? path : picture, { signal });
    if (!answer.ok) return;
    if (chosen === "histogram") counts = (await answer.json()) as Histogram;
    else await answer.blob(); // then the browser has it
    drawn = { kind: chosen, address: picture };
  }

  /** Height of a level in a scope whose axis is `length` long. */
  function at(level: number, length: number): number {
    if (!axes) return 0;
    return ((level - axes.lowest_cv) / (axes.highest_cv - axes.lowest_cv)) * length;
  }

  /** Lines of the outlines: BT.709, P3, BT.2020, all colours. */
  const DASHES = ["", "6 3", "2 3", ""];
  /** Where a chromaticity lies on its diagram. */
  function onDiagram([x = 0, y = 0]: number[]): [number, number] {
    const [across = 1, up = 1] = diagram?.extent ?? [];
    return [(x / across) * SIDE, SIDE - (y / up) * SIDE];
  }

  const ROWS = ["R", "G", "B", "Y′"];
  /** The level under the pointer, as a number of a count. */
  let under = $state<number | null>(null);
  /** Each channel's counts in its own strip, by doubling. */
  const outlines = $derived.by((): Line[] => {
    const lines: Line[] = [];
    for (const [side, stroke] of [
      ["source", "#9a9a9a"],
      ["result", "#ffffff"],
    ] as const)
      for (const [row, name] of ROWS.entries())
        if (counts?.[side])
          lines.push({
            name: `${name} ${side}`,
            values: (counts[side][row] ?? []).map((count) => 3 - row + 0.9 * (Math.log1p(count) / most)),
            stroke,
            width: 1,
          });
    return lines;
  });
  const bins = $derived(counts?.source[0]?.length ?? 0);
  const underCv = $derived(
    under === null || !axes
      ? 0
      : axes.lowest_cv + ((under + 0.5) / bins) * (axes.highest_cv - axes.lowest_cv),
  );
</script>

<section aria-label="Scopes" class="pt-2" data-testid="scopes">
  <div class="flex items-center gap-2 pb-1.5">
    <select class="select w-40 select-xs" aria-label="Scope" bind:value={kind}>
      {#each KINDS as [name, title] (name)}<option value={name}>{title}</option>{/each}
    </select>
    <select class="select grow select-xs" aria-label="Scope of" bind:value={part}>
      <option value="frame">Whole frame</option>
      <option value="visible">What is seen</option>
    </select>
  </div>
  <div class="relative">
    <svg
      width={square ? SIDE : WIDTH}
      height={SIDE}
      class={["block", square && "mx-auto"]}
      role="img"
      aria-label={`${kind} of source and result`}
      data-scope={address}
    >
      {#if kind === "histogram"}
        <rect x={LEFT} y="0" width={WIDTH - LEFT} height={HEIGHT} fill="#262626" />
        {#each levels as { level_cv, label } (label)}
          {@const x = LEFT + at(level_cv, WIDTH - LEFT)}
          <line x1={x} x2={x} y1="0" y2={HEIGHT} stroke="#6f6f6f" />
          <text {x} y={HEIGHT + 12} font-size="10" text-anchor={level_cv > 1000 ? "end" : "middle"}
            >{label}</text
          >
        {/each}
        {#each ["R", "G", "B", "Y′"] as name, row (name)}
          <text x={LEFT - 6} y={(row + 0.6) * (HEIGHT / 4)} font-size="11" text-anchor="end">{name}</text>
        {/each}
      {:else if kind === "vectorscope"}
        <image href={address} x="0" y="0" width={SIDE} height={SIDE} preserveAspectRatio="none" />
        <line x1="0" x2={SIDE} y1={SIDE / 2} y2={SIDE / 2} stroke="#6f6f6f" />
        <line y1="0" y2={SIDE} x1={SIDE / 2} x2={SIDE / 2} stroke="#6f6f6f" />
        {#each Object.entries(axes?.targets ?? {}) as [name, { cb, cr }] (name)}
          {@const x = (0.5 + (cb * 896) / 1024) * SIDE}
          {@const y = (0.5 - (cr * 896) / 1024) * SIDE}
          <rect x={x - 6} y={y - 6} width="12" height="12" fill="none" stroke="#c8c8c8" />
          <text x={x + 9} y={y + 4} font-size="11" fill="#f2f2f2">{name}</text>
        {/each}
      {:else if diagram && square}
        <image href={address} x="0" y="0" width={SIDE} height={SIDE} preserveAspectRatio="none" />
        {#each Object.entries(diagram.outlines) as [name, corners], k (name)}
          {@const places = corners.map(onDiagram)}
          <polygon
            points={places.map(([x, y]) => `${x},${y}`).join(" ")}
            fill="none"
            stroke={name === "all colours" ? "#6f6f6f" : "#c8c8c8"}
            stroke-dasharray={DASHES[k]}
          />
          {#if name !== "all colours"}
            {@const [x, y] = places[1] ?? [0, 0]}
            <text x={x + 4} y={y + (k === 2 ? -4 : 10)} font-size="11" fill="#f2f2f2">{name}</text>
          {/if}
        {/each}
        {@const [x, y] = onDiagram(diagram.white)}
        <path d={`M${x - 5},${y}h10M${x},${y - 5}v10`} stroke="#c8c8c8" />
      {:else}
        <image
          href={address}
          x={LEFT}
          y="0"
          width={WIDTH - LEFT}
          height={HEIGHT}
          preserveAspectRatio="none"
        />
        {#each levels as { level_cv, label } (label)}
          {@const y = HEIGHT - at(level_cv, HEIGHT)}
          <line x1={LEFT} x2={WIDTH} y1={y} y2={y} stroke="#6f6f6f" stroke-dasharray="2 3" />
          <text x={LEFT - 3} y={y + 4} font-size="10" text-anchor="end">{label}</text>
        {/each}
        {#if kind === "parade"}
          {#each ["R", "G", "B"] as name, k (name)}
            <text x={LEFT + ((k + 0.5) / 3) * (WIDTH - LEFT)} y={HEIGHT + 13} font-size="11">{name}</text>
          {/each}
        {/if}
      {/if}
    </svg>
    {#if kind === "histogram" && bins}
      <div
        class="absolute top-0"
        style:left={`${LEFT}px`}
        style:width={`${WIDTH - LEFT}px`}
        data-testid="histogram"
      >
        <Chart
          x={Array.from({ length: bins }, (_, k) => k)}
          xName="level"
          lines={outlines}
          height={HEIGHT}
          label="How many pixels have each level, in R, G, B and luma"
          bare={[0, 4]}
          onunder={(k) => (under = k)}
        />
      </div>
    {/if}
  </div>
  <p class="pt-1 text-[13px] text-quiet">
    {#if kind === "histogram" && under !== null}
      At <span class="figure">{underCv.toFixed(0)} CV</span>, pixels:
      {#each ROWS as name, row (name)}
        {name}
        <span class="figure"
          >{counts?.source[row]?.[under] ?? 0}{counts?.result
            ? ` → ${counts.result[row]?.[under] ?? 0}`
            : ""}</span
        >
      {/each}
    {/if}
    {#if kind === "vectorscope"}
      Cb to the right, Cr upwards; marked: bars of 75 %.
    {:else if square}
      Chromaticity of {axes?.space}: {kind === "gamut-xy" ? "x to the right, y" : "u′ to the right, v′"} upwards;
      cross: white (D65).
    {:else}
      {axes?.unit === "CV" ? "Levels in CV (10 bits)" : `Light in ${axes?.unit}, by ${axes?.space}`}{kind ===
      "histogram"
        ? ", counts by doubling"
        : ""}.
    {/if}
    {side.kind === "source" ? "Grey: source." : "Grey: source. White: result."}
    {bench.looks.on ? "Under the look." : ""}
    {computing ? "computing …" : ""}
  </p>
</section>
