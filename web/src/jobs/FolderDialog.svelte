<script lang="ts">
  import { api, asked } from "../api/client";
  import { notices } from "../lib/notices.svelte";

  interface Entry {
    name: string;
    path: string;
    is_folder: boolean;
  }
  let dialog = $state<HTMLDialogElement>();
  let entries = $state<Entry[]>([]);
  let here = $state("");
  let title = $state("");
  let wantsFolder = $state(false);
  let choose: (path: string) => void = () => {};

  /** Ask for a piece of footage, or, where that is wanted, for a folder. */
  export function show(what: string, chosen: (path: string) => void, folder = false): void {
    [title, choose, wantsFolder] = [what, chosen, folder];
    dialog?.showModal();
    open("");
  }

  function open(path: string): void {
    void notices.watch(async () => {
      entries = await asked(api.GET("/api/folders", { params: { query: { path } } }));
      here = path;
    });
  }

  function pick(entry: Entry): void {
    if (entry.is_folder) open(entry.path);
    else take(entry.path);
  }

  function take(path: string): void {
    dialog?.close();
    choose(path);
  }
</script>

<dialog bind:this={dialog} class="modal" aria-labelledby="folder-title">
  <div class="modal-box">
    <h2 id="folder-title" class="pb-2 text-base font-semibold perforated">{title}</h2>
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
        {#if entry.is_folder || !wantsFolder}
          <li>
            <button class="w-full px-2 py-1 text-left hover:bg-base-200" onclick={() => pick(entry)}>
              {entry.name}{entry.is_folder ? "/" : ""}
            </button>
          </li>
        {/if}
      {:else}
        <li class="px-2 py-1">Nothing here that can be imported.</li>
      {/each}
    </ul>
    <div class="mt-3 flex justify-end gap-2">
      {#if wantsFolder && here}
        <button class="btn btn-primary btn-sm" onclick={() => take(here)}>Look in this folder</button>
      {/if}
      <form method="dialog"><button class="btn btn-sm">Close</button></form>
    </div>
  </div>
</dialog>
