<script lang="ts">
  import { api, asked } from "../api/client";
  import { notices } from "../lib/notices.svelte";

  interface Entry {
    name: string;
    path: string;
    is_folder: boolean;
  }
  const { onchoose }: { onchoose: (path: string) => void } = $props();
  let dialog = $state<HTMLDialogElement>();
  let entries = $state<Entry[]>([]);
  let here = $state("");

  export function show(): void {
    dialog?.showModal();
    open("");
  }

  function open(path: string): void {
    void notices.watch(async () => {
      entries = await asked(api.GET("/api/folders", { params: { query: { path } } }));
      here = path;
    });
  }

  function choose(entry: Entry): void {
    if (entry.is_folder) open(entry.path);
    else {
      onchoose(entry.path);
      dialog?.close();
    }
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="folder-title">
  <div class="modal-box">
    <h2 id="folder-title" class="pb-2 text-base font-semibold perforated">Import from a folder</h2>
    <p class="py-2 text-quiet">
      {here || "Footage is read where it lies. The folders are named in YELLOW_CLEAN_MEDIA_FOLDERS."}
    </p>
    <ul class="max-h-80 overflow-y-auto">
      {#if here}
        <li>
          <button class="w-full px-2 py-1 text-left hover:bg-base-200" onclick={() => open("")}
            >All folders</button
          >
        </li>
      {/if}
      {#each entries as entry (entry.path)}
        <li>
          <button class="w-full px-2 py-1 text-left hover:bg-base-200" onclick={() => choose(entry)}>
            {entry.name}{entry.is_folder ? "/" : ""}
          </button>
        </li>
      {:else}
        <li class="px-2 py-1">Nothing here that can be imported.</li>
      {/each}
    </ul>
    <form method="dialog" class="mt-3 text-right"><button class="btn btn-sm">Close</button></form>
  </div>
</dialog>
