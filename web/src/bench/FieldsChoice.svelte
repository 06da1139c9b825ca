<script lang="ts">
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  let first = $state<"measured" | "top" | "bottom">("measured");
</script>

<h3 class="pt-3 font-semibold">Or keep every moment</h3>
<p class="text-[13px] text-quiet">
  The step keeps the first moment of each frame. As frames of their own both stay: twice as many, at twice the
  rate, in a shot in the place of this one.
</p>
<div class="flex flex-wrap items-center gap-2 py-1">
  <label for="seen-first" class="text-[13px]">Seen first</label>
  <select id="seen-first" class="select w-32 select-xs" bind:value={first}>
    <option value="measured">As measured</option>
    <option value="top">Top lines</option>
    <option value="bottom">Bottom lines</option>
  </select>
  <button class="btn btn-xs" onclick={() => void bench.makeFieldsFrames(first)}
    >Make each field a frame</button
  >
</div>
