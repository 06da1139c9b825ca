<script lang="ts">
  import { api, draftOf, lookQuery, pictureAddress, type Pixel, type View } from "../api/client";
  import { boxBetween, clamp, fitScale, held, place, visible, ZOOMS, type Box } from "../lib/geometry";
  import { notices } from "../lib/notices.svelte";
  import { Bitmaps } from "./bitmaps";
  import type { Bench } from "./bench.svelte";
  import { drawPicture } from "./draw";
  import PatchLayer from "./PatchLayer.svelte";
  import ShapeLayer from "./ShapeLayer.svelte";
  import WipeLine from "./WipeLine.svelte";

  const { bench }: { bench: Bench } = $props();
  const GRID = 64;
  /** An exact picture that takes longer than this gets a coarse one shown before it. */
  const DRAFT_AFTER_MS = 250;
  const bitmaps = new Bitmaps();
  let canvas = $state<HTMLCanvasElement>();
  let width = $state(0);
  let height = $state(0);
  let arrivals = $state(0);
  let coarse = $state(false);
  let start = $state<{ x: number; y: number } | null>(null);
  let drawn = $state<Box | null>(null);
  let drag: { x: number; y: number; cx: number; cy: number } | null = null;

  const ratio = $derived(devicePixelRatio || 1);
  const frame = $derived({ width: bench.shot?.media.width ?? 1, height: bench.shot?.media.height ?? 1 });
  const room = $derived({
    width: Math.max(Math.round(width * ratio), 1),
    height: Math.max(Math.round(height * ratio), 1),
  });
  const scale = $derived(
    bench.zoom === null ? Math.min(fitScale(frame, room), 4) : (bench.zoom / 100) * ratio,
  );
  const middle = $derived({
    x: held(bench.centre?.x ?? frame.width / 2, frame.width, room.width, scale),
    y: held(bench.centre?.y ?? frame.height / 2, frame.height, room.height, scale),
  });
  const placement = $derived(place(scale, middle.x, middle.y, room));
  /** Reduced pictures are asked for whole; from 100 % on only the visible part is. */
  const region = $derived(scale >= 1 ? visible(placement, room, frame, GRID) : null);
  const views = $derived<View[]>(
    bench.wipe !== null && bench.shown !== "source" ? ["source", bench.shown] : [bench.shown],
  );
  const addresses = $derived(views.map((view) => addressOf(view)));

  function addressOf(view: View): string {
    if (!bench.shot) return "";
    const { shot, n, version, reach, look } = bench;
    return pictureAddress(shot, n, view, version, region, Math.min(scale, 1), reach.step) + lookQuery(look);
  }

  function waiting(): boolean {
    return addresses.some((address) => !bitmaps.have(address));
  }

  function fetchAll(wanted: string[]) {
    void notices
      .watch(() => bitmaps.want(wanted, () => arrivals++))
      .then(() => (bench.computing = waiting()));
  }

  $effect(() => {
    if (!bench.shot || !width) return;
    const wanted = addresses;
    bench.computing = waiting();
    fetchAll(wanted);
    if (bench.shown === "source" || bench.shown === "reach") return;
    const later = setTimeout(() => {
      if (waiting()) fetchAll([...wanted, ...wanted.map(draftOf)]);
    }, DRAFT_AFTER_MS);
    return () => clearTimeout(later);
  });

  $effect(() => {
    void arrivals;
    const context = canvas?.getContext("2d", { alpha: false });
    if (!canvas || !context) return;
    if (canvas.width !== room.width || canvas.height !== room.height) {
      canvas.width = room.width;
      canvas.height = room.height;
    }
    const pictures = addresses.map((address) => bitmaps.have(address) ?? bitmaps.have(draftOf(address)));
    if (!canvas.dataset.shown) drawPicture(context, [], { x: 0, y: 0, ...frame }, placement, null, room);
    if (pictures.every((picture) => picture !== undefined)) {
      const area = region ?? { x: 0, y: 0, ...frame };
      const split =
        pictures.length > 1 && bench.wipe !== null ? Math.round(bench.wipe * frame.width * scale) : null;
      drawPicture(context, pictures, area, placement, split, room);
      coarse = waiting();
      if (!coarse) canvas.dataset.shown = addresses.join(" ");
    }
  });

  $effect(() => bench.noteAddress());

  function toSource(event: PointerEvent | WheelEvent): { x: number; y: number } {
    const box = canvas?.getBoundingClientRect() ?? { left: 0, top: 0 };
    return {
      x: ((event.clientX - box.left) * ratio - placement.offsetX) / scale,
      y: ((event.clientY - box.top) * ratio - placement.offsetY) / scale,
    };
  }

  function press(event: PointerEvent) {
    if (event.button !== 0) return;
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    const at = toSource(event);
    if (bench.reach.picking) void bench.reach.sample(at.x, at.y);
    else if (bench.drawing) start = at;
    else drag = { x: event.clientX, y: event.clientY, cx: middle.x, cy: middle.y };
  }

  function move(event: PointerEvent) {
    if (start) drawn = boxBetween(start, toSource(event), frame);
    else if (!drag) void read(event);
    else
      bench.centre = {
        x: held(drag.cx - ((event.clientX - drag.x) * ratio) / scale, frame.width, room.width, scale),
        y: held(drag.cy - ((event.clientY - drag.y) * ratio) / scale, frame.height, room.height, scale),
      };
  }

  function release() {
    if (start && drawn && drawn.width > 1 && drawn.height > 1) void bench.judge({ ...drawn, frame: bench.n });
    start = drawn = drag = null;
  }

  function wheel(event: WheelEvent) {
    event.preventDefault();
    const now = bench.zoom ?? (scale / ratio) * 100;
    const next = event.deltaY < 0 ? ZOOMS.find((z) => z > now + 1) : ZOOMS.findLast((z) => z < now - 1);
    if (next === undefined) return;
    const at = toSource(event);
    const factor = ((next / 100) * ratio) / scale;
    bench.centre = { x: at.x + (middle.x - at.x) / factor, y: at.y + (middle.y - at.y) / factor };
    bench.zoom = next;
  }

  const label = { source: "Source", result: "Result", removed: "Removed", reach: "" } as const;
  let readout = $state<{ x: number; y: number; pixel: Pixel } | null>(null);
  let asking = false;

  /** Read the pixel under the pointer from the picture itself, one request at a time. */
  async function read(event: PointerEvent) {
    const at = toSource(event);
    const [x, y] = [Math.floor(at.x), Math.floor(at.y)];
    if (x < 0 || y < 0 || x >= frame.width || y >= frame.height) readout = null;
    else if (!asking && bench.shot) {
      asking = true;
      const query = { n: bench.n, x, y, version_id: bench.version?.id };
      const params = { path: { shot_id: bench.shot.id }, query };
      const { data } = await api.GET("/api/shots/{shot_id}/pixel", { params });
      if (data) readout = { x, y, pixel: data };
      asking = false;
    }
  }

  function inCv(values: number[]): string {
    return values.map((value, c) => `${"RGB"[c]} ${value.toFixed(1)}`).join("  ");
  }

  const left = $derived(placement.offsetX / ratio);
  const shownWidth = $derived((frame.width * scale) / ratio);
</script>

<div
  class="relative h-full w-full overflow-hidden bg-surround"
  bind:clientWidth={width}
  bind:clientHeight={height}
  role="application"
  aria-label="Picture"
>
  <canvas
    bind:this={canvas}
    class={[
      "block h-full w-full touch-none",
      bench.drawing || bench.reach.picking ? "cursor-crosshair" : "cursor-grab active:cursor-grabbing",
    ]}
    onpointerdown={press}
    onpointermove={move}
    onpointerup={release}
    onpointercancel={release}
    onpointerleave={() => (readout = null)}
    onwheel={wheel}
  ></canvas>
  <PatchLayer {bench} {placement} {ratio} {drawn} />
  <ShapeLayer {bench} {placement} {ratio} />
  {#if views.length > 1 && bench.wipe !== null}
    <WipeLine value={bench.wipe} {left} width={shownWidth} onmove={(to) => (bench.wipe = clamp(to, 0, 1))} />
  {/if}
  <p
    class="pointer-events-none absolute top-2 left-3 bg-black/60 px-1.5 text-on-picture"
    data-testid="picture-label"
  >
    {views
      .map((view) => (view === "reach" ? `Reach of step ${bench.reach.step + 1}` : label[view]))
      .join(" | ")}{bench.holding ? " (held)" : ""}
  </p>
  {#if readout}
    <p
      class="pointer-events-none absolute bottom-2 left-3 bg-black/60 px-1.5 figure text-[13px] whitespace-pre text-on-picture"
      data-testid="readout"
    >
      x {readout.x} y {readout.y} source {inCv(readout.pixel.source)}{readout.pixel.result
        ? ` · result ${inCv(readout.pixel.result)}`
        : ""} CV
    </p>
  {/if}
  {#if bench.computing}
    <p class="pointer-events-none absolute top-2 right-3 bg-black/60 px-1.5 text-on-picture" role="status">
      {coarse ? "coarse, computing …" : "computing …"}
    </p>
  {/if}
</div>
