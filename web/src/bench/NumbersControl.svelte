<script lang="ts">
  import { typedNumber, type Numbers } from "./schema";

  interface Props {
    numbers: Numbers;
    value: number[];
    onchange: (value: number[]) => void;
    /** Whether the picture is waited for, and what starts or ends that. */
    picking: boolean;
    pick: () => void;
  }
  const { numbers, value, onchange, picking, pick }: Props = $props();
  const changed = $derived(value.some((v, k) => v !== numbers.standard[k]));

  function take(index: number, text: string) {
    const typed = typedNumber(text);
    if (typed !== null) onchange(value.with(index, typed));
  }
</script>

<div class="py-1" role="group" aria-label={numbers.title} title={numbers.help}>
  <p class="flex justify-between">
    <span class="truncate">{numbers.title}</span>
    <button
      class="text-quiet disabled:opacity-0"
      disabled={!changed}
      onclick={() => onchange([...numbers.standard])}
      aria-label={`Reset ${numbers.title}`}
      title={`Reset to ${numbers.standard.join(", ")} ${numbers.unit}`}>↺</button
    >
  </p>
  <div class="flex items-center gap-1.5">
    {#each numbers.parts as part, index (part)}
      <label class="flex min-w-0 items-center gap-1">
        <span class="text-[13px] text-quiet">{part}</span>
        <input
          class="input w-full text-right figure input-xs"
          inputmode="decimal"
          value={value[index]}
          onchange={(event) => take(index, event.currentTarget.value)}
        />
      </label>
    {/each}
    <span class="text-[13px] text-quiet">{numbers.unit}</span>
    <button class={["btn btn-xs", picking && "btn-active"]} aria-pressed={picking} onclick={pick}
      >{picking ? "Click a spot" : "Pick"}</button
    >
  </div>
</div>
