<script lang="ts">
  import { typedWithin, type Control } from "./schema";

  const { control, value, onchange }: { control: Control; value: number; onchange: (value: number) => void } =
    $props();
  const id = $props.id();

  function take(text: string) {
    const typed = typedWithin(control, text);
    if (typed !== null) onchange(typed);
  }
</script>

<div class="grid grid-cols-[1fr_3.6rem_3.2rem_1.2rem] items-center gap-x-2 py-0.5" title={control.help}>
  <label for={id} class="leading-tight">{control.title}</label>
  <input
    {id}
    class="input w-full text-right figure input-xs"
    inputmode="decimal"
    {value}
    onchange={(event) => take(event.currentTarget.value)}
  />
  <span class="text-[13px] text-quiet">{control.unit}</span>
  <button
    class="text-quiet disabled:opacity-0"
    disabled={value === control.standard}
    onclick={() => onchange(control.standard)}
    aria-label={`Reset ${control.title} to ${control.standard} ${control.unit}`}
    title={`Reset to ${control.standard} ${control.unit}`}>↺</button
  >
  <input
    class="col-span-4 amount w-full"
    type="range"
    min={control.least}
    max={control.most}
    step={control.step}
    {value}
    aria-label={`${control.title} slider`}
    oninput={(event) => onchange(Number(event.currentTarget.value))}
  />
</div>
