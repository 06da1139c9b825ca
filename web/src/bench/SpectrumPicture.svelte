<script lang="ts">
  const { spectrum }: { spectrum: number[][][] } = $props();
  const SIDE = 8;
  const CELL = 10;
  const AXES = ["luma", "colour R–B", "colour G"];
  const OCTAVES = ["1-2 px", "2-4 px", "from 4 px"];
  const GAP = 14;
  const LEFT = 62;
  const TOP = 16;
  const BLOCK = SIDE * CELL;
  const small = 5;
  /** Deviation against white noise, by octaves: a quarter or less is black, four times or more is white. */
  const shade = (value: number) => {
    const level = Math.round(255 * Math.min(Math.max(0.5 + Math.log2(value) / 4, 0), 1));
    return `rgb(${level},${level},${level})`;
  };
  const unit = BLOCK - CELL * small;
</script>

<svg
  viewBox={`0 0 ${LEFT + 3 * (unit + GAP + 24)} ${TOP + 3 * (unit + 6)}`}
  class="w-full"
  role="img"
  aria-label="Noise by spatial frequency: for each axis and octave 8 by 8 frequencies, brighter where there is more noise"
>
  {#each OCTAVES as octave, o (octave)}
    <text
      x={LEFT + o * (unit + GAP + 24) + unit / 2}
      y="11"
      font-size="10"
      text-anchor="middle"
      fill="#161616">{octave}</text
    >
  {/each}
  {#each AXES as axis, a (axis)}
    <text x={LEFT - 5} y={TOP + a * (unit + 6) + unit / 2 + 3} font-size="10" text-anchor="end" fill="#161616"
      >{axis}</text
    >
    {#each OCTAVES as octave, o (octave)}
      {#each spectrum[a]?.[o] ?? [] as value, k (k)}
        <rect
          x={LEFT + o * (unit + GAP + 24) + (k % SIDE) * (unit / SIDE)}
          y={TOP + a * (unit + 6) + Math.floor(k / SIDE) * (unit / SIDE)}
          width={unit / SIDE}
          height={unit / SIDE}
          fill={shade(value)}
        />
      {/each}
    {/each}
  {/each}
</svg>
<p class="text-[13px] text-quiet">
  Top left slow waves, bottom right fine ones. Mid-grey is white noise, white four times as much or more,
  black a quarter.
</p>
