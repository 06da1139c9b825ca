<script lang="ts">
  import type { Placement } from "../lib/geometry";
  import type { Bench } from "./bench.svelte";
  import type { Point } from "./reach.svelte";

  interface Props {
    bench: Bench;
    placement: Placement;
    ratio: number;
  }
  const { bench, placement, ratio }: Props = $props();
  const desk = $derived(bench.reach);
  const key = $derived(bench.version?.matte_keys[desk.step]);
  let drag = $state<{
    shape: number;
    point: number;
    from: Point[];
    x: number;
    y: number;
    now: Point[];
  } | null>(null);

  $effect(() => {
    if (desk.shapes.length && key && bench.version) void desk.locate(bench.version.id, desk.step, bench.n);
  });

  function pointsOf(shape: number): Point[] {
    return drag?.shape === shape ? drag.now : (desk.points[shape] ?? []);
  }

  function onScreen([x, y]: Point): Point {
    return [
      (placement.offsetX + x * placement.scale) / ratio,
      (placement.offsetY + y * placement.scale) / ratio,
    ];
  }

  /** Point 0 of an ellipse is its middle and takes the others along; so does the middle of a polygon (-1). */
  function moved(shape: number, from: Point[], point: number, dx: number, dy: number): Point[] {
    const whole = point < 0 || (point === 0 && desk.shapes[shape]?.kind === "ellipse");
    return from.map((p, k) => (whole || k === point ? [p[0] + dx, p[1] + dy] : p));
  }

  function press(event: PointerEvent, shape: number, point: number, from = pointsOf(shape)) {
    event.stopPropagation();
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    drag = { shape, point, from, x: event.clientX, y: event.clientY, now: from };
  }

  /** Pressing the middle of a side puts a new point there. */
  function pressSide(event: PointerEvent, shape: number, side: number) {
    const points = pointsOf(shape);
    press(event, shape, side + 1, points.toSpliced(side + 1, 0, middle(points, side)));
  }

  function move(event: PointerEvent) {
    if (!drag) return;
    const unit = ratio / placement.scale;
    const { shape, from, point, x, y } = drag;
    drag.now = moved(
      shape,
      from,
      point,
      ((event.clientX - x) * unit) / bench.aspect,
      (event.clientY - y) * unit,
    );
  }

  function release() {
    const done = drag;
    drag = null;
    if (done && done.now !== done.from) desk.setPoints(done.shape, done.now);
  }

  function middle(points: Point[], side: number): Point {
    const [a, b] = [points[side], points[(side + 1) % points.length]];
    return a && b ? centre([a, b]) : [0, 0];
  }

  function centre(points: Point[]): Point {
    const sum = points.reduce<Point>((total, p) => [total[0] + p[0], total[1] + p[1]], [0, 0]);
    return [sum[0] / points.length, sum[1] / points.length];
  }

  const STEPS: Record<string, Point> = {
    ArrowLeft: [-1, 0],
    ArrowRight: [1, 0],
    ArrowUp: [0, -1],
    ArrowDown: [0, 1],
  };

  function nudge(event: KeyboardEvent, shape: number, point: number) {
    const step = STEPS[event.key];
    const points = pointsOf(shape);
    const polygon = desk.shapes[shape]?.kind === "polygon";
    if (step) {
      const far = event.shiftKey ? 1 : 8;
      desk.setPoints(shape, moved(shape, points, point, far * step[0], far * step[1]));
    } else if (event.key === "Delete" && polygon && point >= 0 && points.length > 3)
      desk.setPoints(shape, points.toSpliced(point, 1));
    else return;
    event.preventDefault();
    event.stopPropagation();
  }
</script>

{#snippet handle(shape: number, point: number, at: Point, label: string)}
  {@const [x, y] = onScreen(at)}
  <div
    class={[
      "pointer-events-auto absolute -mt-1.5 -ml-1.5 size-3 cursor-move touch-none border border-black bg-white",
      point <= 0 && label.includes("middle") && "rounded-full",
    ]}
    style={`left:${x}px;top:${y}px`}
    role="button"
    tabindex="0"
    aria-label={`Shape ${shape + 1}, ${label}: arrows move it by 8 px, with Shift by 1`}
    onpointerdown={(event) => press(event, shape, point)}
    onpointermove={move}
    onpointerup={release}
    onpointercancel={() => (drag = null)}
    onkeydown={(event) => nudge(event, shape, point)}
  ></div>
{/snippet}

{#if desk.shapes.length}
  <div class="pointer-events-none absolute inset-0 overflow-hidden" data-testid="shapes">
    <svg class="absolute inset-0 h-full w-full" aria-hidden="true">
      {#each desk.shapes as shape, k (k)}
        {@const points = pointsOf(k).map(onScreen)}
        {#each ["black", "white"] as stroke, layer (stroke)}
          {#if shape.kind === "ellipse" && points.length === 3}
            {@const [[cx, cy], [ax, ay], [bx, by]] = points as [Point, Point, Point]}
            <circle
              r="1"
              fill="none"
              {stroke}
              stroke-width={3 - 2 * layer}
              vector-effect="non-scaling-stroke"
              transform={`matrix(${ax - cx} ${ay - cy} ${bx - cx} ${by - cy} ${cx} ${cy})`}
            />
          {:else}
            <polygon points={points.join(" ")} fill="none" {stroke} stroke-width={3 - 2 * layer} />
          {/if}
        {/each}
      {/each}
    </svg>
    {#each desk.shapes as shape, k (k)}
      {@const points = pointsOf(k)}
      {#if shape.kind === "polygon" && points.length}
        {#each points.keys() as side (side)}
          {@const [x, y] = onScreen(middle(points, side))}
          <div
            class="pointer-events-auto absolute -mt-1 -ml-1 size-2 cursor-copy touch-none border border-black bg-white/60"
            style={`left:${x}px;top:${y}px`}
            role="presentation"
            onpointerdown={(event) => pressSide(event, k, side)}
            onpointermove={move}
            onpointerup={release}
          ></div>
        {/each}
        {@render handle(k, -1, centre(points), "its middle")}
      {/if}
      {#each points as at, point (point)}
        {@render handle(
          k,
          point,
          at,
          shape.kind === "ellipse" && point === 0 ? "its middle" : `point ${point + 1}`,
        )}
      {/each}
    {/each}
  </div>
{/if}
