<script lang="ts">
  interface Props {
    /** Where the line stands, as a share of the frame's width. */
    value: number;
    /** The frame's left edge and width in CSS pixels. */
    left: number;
    width: number;
    onmove: (value: number) => void;
  }
  const { value, left, width, onmove }: Props = $props();
  let moving = $state(false);
  const STEP = 0.01;

  function press(event: PointerEvent) {
    moving = true;
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
  }

  function move(event: PointerEvent) {
    const parent = (event.currentTarget as Element).parentElement;
    if (moving && parent) onmove((event.clientX - parent.getBoundingClientRect().left - left) / width);
  }

  function key(event: KeyboardEvent) {
    const by = event.key === "ArrowLeft" ? -STEP : event.key === "ArrowRight" ? STEP : 0;
    if (!by) return;
    event.preventDefault();
    event.stopPropagation();
    onmove(value + by * (event.shiftKey ? 10 : 1));
  }
</script>

<div
  class="absolute top-0 bottom-0 -ml-2 w-4 cursor-ew-resize touch-none"
  style:left={`${left + value * width}px`}
  role="slider"
  tabindex="0"
  aria-label="Wipe"
  aria-valuemin="0"
  aria-valuemax="100"
  aria-valuenow={Math.round(value * 100)}
  aria-valuetext={`${Math.round(value * 100)} % of the width`}
  onpointerdown={press}
  onpointermove={move}
  onpointerup={() => (moving = false)}
  onkeydown={key}
>
  <div class="mx-auto h-full w-px bg-white" style:box-shadow="0 0 0 1px #000"></div>
</div>
