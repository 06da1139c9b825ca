<script lang="ts">
  import type { Dither } from "../api/client";

  /** How a result goes to fewer bits. */
  let { id, value = $bindable() }: { id: string; value: Dither } = $props();
</script>

<label for={id}>Dither</label>
<select {id} class="select select-sm" bind:value>
  <option value="moving">Moving: another pattern in each frame</option>
  <option value="still">Still: one pattern, cheaper for codecs</option>
  <option value="none">None: ramps may step</option>
</select>
