<script lang="ts">
  import BenchPage from "./bench/BenchPage.svelte";
  import JobsPage from "./jobs/JobsPage.svelte";
  import { connection } from "./lib/connection.svelte";
  import { notices } from "./lib/notices.svelte";
  import ProfilesPage from "./profiles/ProfilesPage.svelte";
  import RendersPage from "./renders/RendersPage.svelte";
  import { router } from "./lib/router.svelte";

  const shot = $derived(router.path.match(/^\/shots\/(\d+)/)?.[1]);
  const renders = $derived(router.path.match(/^\/jobs\/(\d+)\/renders/)?.[1]);
  const job = $derived(router.path.match(/^\/jobs\/(\d+)/)?.[1]);
</script>

{#if shot}
  {#key shot}
    <BenchPage shotId={Number(shot)} />
  {/key}
{:else if renders}
  {#key renders}
    <RendersPage jobId={Number(renders)} />
  {/key}
{:else if router.path.startsWith("/profiles")}
  <ProfilesPage />
{:else}
  <JobsPage jobId={job ? Number(job) : null} />
{/if}

{#if connection.away}
  <p
    class="fixed inset-x-0 top-0 z-50 bg-neutral px-3 py-1.5 text-center text-neutral-content"
    role="status"
    data-testid="away"
  >
    The application does not answer. What you change is kept and sent once it does.
  </p>
{/if}

<div class="fixed right-3 bottom-3 z-50 flex max-w-lg flex-col gap-2" role="status" aria-live="polite">
  {#each notices.lines as line (line.id)}
    <div class="flex items-start gap-3 bg-neutral px-3 py-2 text-neutral-content">
      <span class="grow">{line.text}</span>
      {#if line.act}
        <button
          class="btn btn-xs"
          onclick={() => {
            line.act?.();
            notices.close(line.id);
          }}>{line.does}</button
        >
      {/if}
      <button class="btn btn-xs" onclick={() => notices.close(line.id)}>Close</button>
    </div>
  {/each}
</div>
