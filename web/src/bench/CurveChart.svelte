<script lang="ts">
  import type { NoiseCurve, PatchReading } from "../api/client";

  interface Props {
    curve: NoiseCurve;
    readings: PatchReading[];
    /** The curve of a saved profile, laid over the shot's own. */
    saved: NoiseCurve | null;
  }
  const { curve, readings, saved }: Props = $props();
  const WIDTH = 290;
  const HEIGHT = 146;
  const LEFT = 30;
  const BOTTOM = 18;
  /** Above it stand the names of the lines. */
  const TOP = 28;
  const LEAST_SHARE = 0.005;

  const lines = [
    { name: "R", values: (c: NoiseCurve) => c.r_cv, dash: "6 3" },
    { name: "G", values: (c: NoiseCurve) => c.g_cv, dash: "" },
    { name: "B", values: (c: NoiseCurve) => c.b_cv, dash: "2 2" },
  ];
  const present = $derived(
    curve.level_cv.map((_, k) => k).filter((k) => (curve.share[k] ?? 0) >= LEAST_SHARE),
  );
  const top = $derived(
    Math.max(
      1,
      ...lines.flatMap((line) => present.map((k) => line.values(curve)[k] ?? 0)),
      ...readings.map((r) => r.luma_cv),
      ...present.map((k) => (saved ? savedAt(saved, curve.level_cv[k] ?? 0) : 0)),
    ) * 1.12,
  );
  /** Green sigma of a saved curve at a level, between its points. */
  function savedAt(other: NoiseCurve, level: number): number {
    const next = other.level_cv.findIndex((l) => l >= level);
    if (next <= 0) return other.g_cv.at(next === 0 ? 0 : -1) ?? 0;
    const [a, b] = [other.level_cv[next - 1] ?? 0, other.level_cv[next] ?? 1];
    const [from, to] = [other.g_cv[next - 1] ?? 0, other.g_cv[next] ?? 0];
    return from + ((to - from) * (level - a)) / (b - a);
  }
  const overlay = $derived(saved ? curve.level_cv.map((level) => savedAt(saved, level)) : null);
  /** Levels that occur, widened to whole marks: the chart's width is theirs. */
  const MARK = 128;
  const lowest = $derived(Math.floor((curve.level_cv[present[0] ?? 0] ?? 0) / MARK) * MARK);
  const highest = $derived(
    Math.min(Math.ceil(((curve.level_cv[present.at(-1) ?? 0] ?? 1023) + 1) / MARK) * MARK, 1024),
  );
  const marks = $derived(
    Array.from({ length: (highest - lowest) / MARK + 1 }, (_, k) => lowest + k * MARK).filter(
      (_, k) => highest - lowest <= 4 * MARK || k % 2 === 0,
    ),
  );
  const x = (level: number) => LEFT + ((level - lowest) / (highest - lowest)) * (WIDTH - LEFT - 14);
  const y = (cv: number) => HEIGHT - BOTTOM - (cv / top) * (HEIGHT - BOTTOM - TOP);
  const points = (values: number[]) =>
    present.map((k) => `${x(curve.level_cv[k] ?? 0).toFixed(1)},${y(values[k] ?? 0).toFixed(1)}`).join(" ");
</script>

<svg
  viewBox={`0 0 ${WIDTH} ${HEIGHT}`}
  class="w-full"
  role="img"
  aria-label="Sigma in code values against level in code values"
>
  {#each marks as level (level)}
    <line x1={x(level)} x2={x(level)} y1={TOP} y2={HEIGHT - BOTTOM} stroke="#8a8a8a" stroke-width="0.6" />
    <text x={x(level)} y={HEIGHT - 5} font-size="10" text-anchor="middle" fill="#161616">{level}</text>
  {/each}
  {#each [0, 0.5, 0.9] as share (share)}
    <line
      x1={LEFT}
      x2={WIDTH - 6}
      y1={y(share * top)}
      y2={y(share * top)}
      stroke="#8a8a8a"
      stroke-width="0.6"
    />
    <text x={LEFT - 4} y={y(share * top) + 3} font-size="10" text-anchor="end" fill="#161616"
      >{(share * top).toFixed(top < 10 ? 1 : 0)}</text
    >
  {/each}
  {#each lines as line, k (line.name)}
    <polyline
      points={points(line.values(curve))}
      fill="none"
      stroke="#161616"
      stroke-width="1.4"
      stroke-dasharray={line.dash}
    />
    <line
      x1={WIDTH - 116 + k * 38}
      x2={WIDTH - 98 + k * 38}
      y1="9"
      y2="9"
      stroke="#161616"
      stroke-width="1.4"
      stroke-dasharray={line.dash}
    />
    <text x={WIDTH - 95 + k * 38} y="12" font-size="10" fill="#161616">{line.name}</text>
  {/each}
  {#if overlay}
    <polyline
      points={points(overlay)}
      fill="none"
      stroke="#f4f4f4"
      stroke-width="2.2"
      data-testid="saved-curve"
    />
    <text x={WIDTH - 6} y="24" font-size="10" text-anchor="end" fill="#161616"
      >white: G of the saved profile</text
    >
  {/if}
  {#each readings as reading (reading)}
    <circle
      cx={x(reading.level_cv)}
      cy={y(reading.g_cv)}
      r="3"
      fill="none"
      stroke="#161616"
      stroke-width="1.4"
    />
  {/each}
  <text x="2" y="12" font-size="10" fill="#161616">σ in CV, by level in CV</text>
</svg>
