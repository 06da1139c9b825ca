<script lang="ts">
  import type { NoiseCurve, PatchReading } from "../api/client";
  import Chart, { type Line } from "../lib/Chart.svelte";

  interface Props {
    curve: NoiseCurve;
    readings: PatchReading[];
    /** The curve of a saved profile, laid over the shot's own. */
    saved: NoiseCurve | null;
    /** The curve with what a codec carried along and took. */
    coded: NoiseCurve | null;
  }
  const { curve, readings, saved, coded }: Props = $props();
  const LEAST_SHARE = 0.005;

  const present = $derived(
    curve.level_cv.map((_, k) => k).filter((k) => (curve.share[k] ?? 0) >= LEAST_SHARE),
  );
  /** Levels that occur, and those of the patches, in order. */
  const levels = $derived(
    [...new Set([...present.map((k) => curve.level_cv[k] ?? 0), ...readings.map((r) => r.level_cv)])].sort(
      (a, b) => a - b,
    ),
  );
  const lines = $derived.by((): Line[] => {
    const at = new Map(present.map((k) => [curve.level_cv[k], k]));
    const ofCurve = (values: number[]) => levels.map((level) => values[at.get(level) ?? -1] ?? null);
    const patches = new Map(readings.map((r) => [r.level_cv, r.g_cv]));
    return [
      { name: "R", values: ofCurve(curve.r_cv), dash: [6, 3] },
      { name: "G", values: ofCurve(curve.g_cv) },
      { name: "B", values: ofCurve(curve.b_cv), dash: [2, 2] },
      ...(coded ? [{ name: "G with codec", values: ofCurve(coded.g_cv), dash: [9, 3, 2, 3] }] : []),
      ...(saved
        ? [
            {
              name: "saved G",
              values: levels.map((level) => savedAt(saved, level)),
              stroke: "#f4f4f4",
              width: 2.2,
            },
          ]
        : []),
      ...(readings.length
        ? [{ name: "patch G", values: levels.map((level) => patches.get(level) ?? null), points: true }]
        : []),
    ];
  });

  /** Green sigma of a saved curve at a level, between its points. */
  function savedAt(other: NoiseCurve, level: number): number {
    const next = other.level_cv.findIndex((l) => l >= level);
    if (next <= 0) return other.g_cv.at(next === 0 ? 0 : -1) ?? 0;
    const [a, b] = [other.level_cv[next - 1] ?? 0, other.level_cv[next] ?? 1];
    const [from, to] = [other.g_cv[next - 1] ?? 0, other.g_cv[next] ?? 0];
    return from + ((to - from) * (level - a)) / (b - a);
  }
</script>

<p class="text-[13px] text-quiet">
  σ in CV over level in CV{#if coded}<span data-testid="coded-curve"
      >; dash and dot: G with what the codec carried along and took, which stays</span
    >{/if}{#if saved}<span data-testid="saved-curve">; white: G of the saved profile</span>{/if}
</p>
<Chart
  x={levels}
  xName="level"
  {lines}
  height={130}
  label="Sigma of R, G and B in code values against level in code values"
/>
