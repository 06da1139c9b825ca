<script lang="ts">
  import { keep, kept } from "./kept";

  /** One line that says what to do next on a screen; put away, it stays away in this tab. */
  const { screen, text }: { screen: string; text: string } = $props();
  const name = $derived(`next-step-${screen}`);
  let away = $derived(kept(name, false));

  function putAway() {
    away = true;
    keep(name, true);
  }
</script>

{#if !away}
  <p class="flex items-center gap-2 border-l-2 border-neutral pl-2 text-[13px]" data-testid="next-step">
    <span class="grow">{text}</span>
    <button
      class="size-6 shrink-0 text-quiet hover:text-base-content"
      title="Put these lines away"
      aria-label="Put these lines away"
      onclick={putAway}>×</button
    >
  </p>
{/if}
