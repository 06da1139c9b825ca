<script lang="ts">
  import type { Choice } from "./schema";

  interface Props {
    choice: Choice;
    value: string | boolean;
    onchange: (value: string | boolean) => void;
  }
  const { choice, value, onchange }: Props = $props();
  const id = $props.id();
</script>

<div class="grid grid-cols-[1fr_auto] items-center gap-x-2 py-1" title={choice.help}>
  <label for={id} class="truncate">{choice.title}</label>
  {#if choice.options.length}
    <select
      {id}
      class="select w-40 select-xs"
      value={String(value)}
      onchange={(event) => onchange(event.currentTarget.value)}
    >
      {#each choice.options as option (option.value)}
        <option value={option.value}>{option.title}</option>
      {/each}
    </select>
  {:else}
    <input
      {id}
      type="checkbox"
      class="checkbox checkbox-xs"
      checked={value === true}
      onchange={(event) => onchange(event.currentTarget.checked)}
    />
  {/if}
</div>
