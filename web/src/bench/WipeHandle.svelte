<script lang="ts">
  import type { CompareDesk } from "./compare.svelte";
  import type { WipeLine } from "./draw";

  interface Props {
    desk: CompareDesk;
    line: WipeLine;
    /** Device pixels in a CSS pixel. */
    ratio: number;
    /** Width of the picture's pixels over their height. */
    aspect: number;
  }
  const { desk, line, ratio, aspect }: Props = $props();
  const LENGTH = 4000;
  const LEAN_AT = 110;
  let grip: { x: number; y: number; share: number; angle: number; leaning: boolean } | null = null;

  const at = $derived({ x: line.x / ratio, y: line.y / ratio });

  function press(event: PointerEvent, leaning: boolean) {
    event.stopPropagation();
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    grip = { x: event.clientX, y: event.clientY, share: desk.share, angle: desk.angle, leaning };
  }

  function move(event: PointerEvent) {
    if (!grip) return;
    const { normal, span } = line;
    const [dx, dy] = [((event.clientX - grip.x) * ratio) / aspect, (event.clientY - grip.y) * ratio];
    if (!grip.leaning) return desk.slide(grip.share + (dx * normal.x + dy * normal.y) / span);
    const start = (grip.angle * Math.PI) / 180;
    const arm = LEAN_AT * ratio;
    const [x, y] = [Math.sin(start) * arm + dx, -Math.cos(start) * arm + dy];
    desk.angle = Math.round((Math.atan2(x, -y) * 180) / Math.PI);
  }

  function key(event: KeyboardEvent) {
    const by = { ArrowLeft: -0.01, ArrowUp: -0.01, ArrowRight: 0.01, ArrowDown: 0.01 }[event.key];
    if (by === undefined) return;
    event.preventDefault();
    event.stopPropagation();
    desk.slide(desk.share + by * (event.shiftKey ? 10 : 1));
  }
</script>

<div class="pointer-events-none absolute inset-0 overflow-hidden">
  <div
    class="absolute"
    style:left={`${at.x}px`}
    style:top={`${at.y}px`}
    style:transform={`rotate(${desk.angle}deg)`}
  >
    <div
      class="pointer-events-auto absolute w-4 cursor-grab touch-none"
      style:left="-8px"
      style:top={`${-LENGTH / 2}px`}
      style:height={`${LENGTH}px`}
      role="slider"
      tabindex="0"
      aria-label="Wipe"
      aria-valuemin="0"
      aria-valuemax="100"
      aria-valuenow={Math.round(desk.share * 100)}
      aria-valuetext={`${Math.round(desk.share * 100)} % of the frame, leaning ${desk.angle}°`}
      onpointerdown={(event) => press(event, false)}
      onpointermove={move}
      onpointerup={() => (grip = null)}
      onkeydown={key}
    >
      <div class="mx-auto h-full w-px bg-white" style:box-shadow="0 0 0 1px #000"></div>
    </div>
    <div
      class="pointer-events-auto absolute size-3.5 cursor-crosshair touch-none border border-black bg-white"
      style:left="-7px"
      style:top={`${-LEAN_AT - 7}px`}
      aria-hidden="true"
      title="Drag to lean the line"
      data-testid="lean"
      onpointerdown={(event) => press(event, true)}
      onpointermove={move}
      onpointerup={() => (grip = null)}
    ></div>
  </div>
</div>
