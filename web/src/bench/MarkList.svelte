<script lang="ts">
  import type { Bench } from "./bench.svelte";

  const { bench }: { bench: Bench } = $props();
  const desk = $derived(bench.marks);
  const left = $derived(desk.marks.filter((mark) => !mark.taken).length);
  const waiting = $derived(bench.pick?.name === "marks");
  let list = $state<HTMLUListElement>();

  $effect(() => desk.follow());

  function press(event: KeyboardEvent) {
    const move = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    const mark = desk.marks[desk.at];
    if (move) desk.choose(Math.min(Math.max(desk.at + move, 0), desk.marks.length - 1));
    else if ((event.key === " " || event.key === "Enter") && mark) desk.set([mark], !mark.taken);
    else return;
    event.preventDefault();
    event.stopPropagation();
    list?.children[desk.at]?.scrollIntoView({ block: "nearest" });
  }
</script>

<div class="border-t border-rule py-1.5 text-[13px]" data-testid="marks">
  <p class="flex items-center justify-between gap-2">
    <span>{desk.marks.length} in this frame, {left} left</span>
    <button
      class={["btn btn-xs", waiting && "btn-active"]}
      aria-pressed={waiting}
      title="A click on a mark leaves or takes it; elsewhere it marks what was missed"
      onclick={() => desk.clickOne()}>{waiting ? "Click a spot" : "On the picture"}</button
    >
  </p>
  {#each desk.kinds as kind (kind)}
    {@const all = desk.marks.filter((mark) => mark.kind === kind)}
    <p class="flex items-center justify-between gap-2 pt-1">
      <span>{all.length} × {kind}</span>
      <span class="flex gap-1">
        <button class="btn btn-xs" onclick={() => desk.set(all, false)}>Leave all</button>
        <button class="btn btn-xs" onclick={() => desk.set(all, true)}>Take all</button>
      </span>
    </p>
  {/each}
  <p class="grid grid-cols-[1fr_auto_3.2rem] gap-2 px-1 py-1 text-quiet">
    <span>What, and what is done</span><span>x, y</span><span class="text-right">sure</span>
  </p>
  <ul
    bind:this={list}
    class="max-h-40 overflow-y-auto"
    role="listbox"
    tabindex="0"
    aria-label="Marks in this frame: arrows choose, space leaves or takes"
    onkeydown={press}
  >
    {#each desk.marks as mark, k (`${mark.kind} ${mark.x} ${mark.y}`)}
      <li
        role="option"
        aria-selected={k === desk.at}
        class={[
          "grid cursor-pointer grid-cols-[1fr_auto_3.2rem] gap-2 px-1 whitespace-nowrap",
          k === desk.at && "outline-1 outline-current",
        ]}
        onclick={() => desk.choose(k)}
        ondblclick={() => desk.set([mark], !mark.taken)}
        onkeydown={press}
      >
        <span>{mark.taken ? "Take" : "Leave"} {mark.kind}</span>
        <span class="figure">{mark.x}, {mark.y} px</span>
        <span class="text-right figure">{Math.round(100 * mark.sure)} %</span>
      </li>
    {/each}
  </ul>
</div>
