<script lang="ts">
  import { api, asked } from "../api/client";
  import { frameTime } from "../lib/format";
  import { notices } from "../lib/notices.svelte";
  import type { Bench } from "./bench.svelte";

  /** The frame on the screen by number, timecode and seconds; another is typed as either. */
  const { bench }: { bench: Bench } = $props();
  const AFTER_MS = 80;
  const path = $derived({ shot_id: bench.id });
  let told = $state({ frame: -1, timecode: "" });
  /** What the field holds while one is in it: it stays, and stays selected, whatever comes in meanwhile. */
  let typing = $state<string | null>(null);

  $effect(() => {
    const frame = bench.n;
    const later = setTimeout(
      () =>
        void notices.watch(async () => {
          const params = { path, query: { frame } };
          told = await asked(api.GET("/api/shots/{shot_id}/timecode", { params }));
        }),
      bench.player.playing ? AFTER_MS * 4 : AFTER_MS,
    );
    return () => clearTimeout(later);
  });

  async function go(text: string) {
    if (/^\d+$/.test(text)) bench.go(Number(text));
    else if (text)
      await notices.watch(async () => {
        const params = { path, query: { at: text } };
        bench.go((await asked(api.GET("/api/shots/{shot_id}/timecode", { params }))).frame);
      });
  }
</script>

<label class="flex items-center gap-1.5" title="Type a timecode or the number of a frame, and press Enter">
  <span class="figure whitespace-nowrap">{frameTime(bench.n, bench.shot?.media.rate ?? "24")}</span>
  <input
    class="input w-28 figure input-xs"
    aria-label="Timecode of the source"
    value={typing ?? told.timecode}
    oninput={(event) => (typing = event.currentTarget.value)}
    onfocus={(event) => {
      typing = event.currentTarget.value;
      event.currentTarget.select();
    }}
    onblur={() => (typing = null)}
    onchange={(event) => void go(event.currentTarget.value.trim())}
    onkeydown={(event) => {
      if (event.key === "Escape") event.currentTarget.value = told.timecode;
      if (event.key === "Enter" || event.key === "Escape") event.currentTarget.blur();
    }}
  />
</label>
