<script lang="ts">
  import { untrack } from "svelte";
  import { api, closerQuery, draftOf, pictureAddress, SOURCE, type Pixel, type Side } from "../api/client";
  import {
    boxBetween,
    fitScale,
    held,
    place,
    visible,
    ZOOMS,
    type Box,
    type Placement,
  } from "../lib/geometry";
  import { notices } from "../lib/notices.svelte";
  import { Bitmaps } from "./bitmaps";
  import type { Bench } from "./bench.svelte";
  import { drawPanes, halfPlane, rectangle, wipeLine, type Pane } from "./draw";
  import Inset from "./Inset.svelte";
  import OverworkMap from "./OverworkMap.svelte";
  import PatchLayer from "./PatchLayer.svelte";
  import ShapeLayer from "./ShapeLayer.svelte";
  import WipeHandle from "./WipeHandle.svelte";

  const { bench }: { bench: Bench } = $props();
  const GRID = 64;
  /** An exact picture that takes longer than this gets a coarse one shown before it. */
  const DRAFT_AFTER_MS = 250;
  /** A loop is fetched ahead once its pictures rest. */
  const FILL_AFTER_MS = 300;
  const bitmaps = new Bitmaps();
  let canvas = $state<HTMLCanvasElement>();
  let width = $state(0);
  let height = $state(0);
  let arrivals = $state(0);
  let coarse = $state(false);
  let start = $state<{ x: number; y: number } | null>(null);
  let drawn = $state<Box | null>(null);
  let drag: { x: number; y: number; cx: number; cy: number } | null = null;

  const compare = $derived(bench.compare);
  const player = $derived(bench.player);
  const ratio = $derived(devicePixelRatio || 1);
  const frame = $derived({ width: bench.shot?.media.width ?? 1, height: bench.shot?.media.height ?? 1 });
  const main = $derived<Side>(
    compare.frontSide ??
      (bench.shown === "source" || !bench.version
        ? SOURCE
        : { kind: "version", version: bench.version, view: bench.shown, step: bench.reach.step }),
  );
  const same = $derived(sideName(main) === sideName(compare.other));
  const sides = $derived<Side[]>(
    compare.swapped ? [compare.other] : compare.mode === "alone" || same ? [main] : [compare.other, main],
  );
  const beside = $derived(compare.mode === "beside" && sides.length > 1);
  const canvasRoom = $derived({
    width: Math.max(Math.round(width * ratio), 1),
    height: Math.max(Math.round(height * ratio), 1),
  });
  /** What one side has of the screen: half of it, beside or above the other, whichever shows more. */
  const room = $derived.by(() => {
    if (!beside) return canvasRoom;
    const across = { ...canvasRoom, width: Math.round(canvasRoom.width / 2) };
    const down = { ...canvasRoom, height: Math.round(canvasRoom.height / 2) };
    return fitScale(frame, across) > fitScale(frame, down) ? across : down;
  });
  /** Where the second side's room begins. */
  const second = $derived({
    x: room.width < canvasRoom.width ? room.width : 0,
    y: room.height < canvasRoom.height ? room.height : 0,
  });
  const scale = $derived(
    bench.zoom === null ? Math.min(fitScale(frame, room), 4) : (bench.zoom / 100) * ratio,
  );
  const middle = $derived({
    x: held(bench.centre?.x ?? frame.width / 2, frame.width, room.width, scale),
    y: held(bench.centre?.y ?? frame.height / 2, frame.height, room.height, scale),
  });
  const inOneRoom = $derived(place(scale, middle.x, middle.y, room));
  /** Where the last side lies, on which one works. */
  const placement = $derived<Placement>({
    ...inOneRoom,
    offsetX: inOneRoom.offsetX + second.x,
    offsetY: inOneRoom.offsetY + second.y,
  });
  /** Reduced pictures are asked for whole; from 100 % on only the visible part is. */
  const region = $derived(scale >= 1 ? visible(inOneRoom, room, frame, GRID) : null);
  const addresses = $derived(addressesAt(bench.n));
  const line = $derived(wipeLine(compare.share, compare.angle, frame, placement));

  function sideName(side: Side): string {
    if (side.kind === "still") return `still ${side.still.id}`;
    return side.kind === "source" ? "source" : `version ${side.version.id} ${side.view}`;
  }

  function addressesAt(n: number): string[] {
    const shot = bench.shot;
    if (!shot) return [];
    const where = { n, region, scale: Math.min(scale, 1), look: bench.looks.on };
    return sides.map((side) => pictureAddress(shot, side, where) + closerQuery(bench.closer));
  }

  function waiting(): boolean {
    return addresses.some((address) => !bitmaps.has(address));
  }

  function fetchAll(wanted: string[]) {
    void notices
      .watch(() => bitmaps.want(wanted, () => arrivals++))
      .then(() => (bench.computing = waiting()));
  }

  $effect(() => {
    bench.visible = visible(inOneRoom, room, frame, GRID);
  });

  $effect(() => {
    if (!bench.shot || !width) return;
    const wanted = addresses;
    bench.computing = waiting();
    fetchAll(wanted);
    if (sides.every((side) => side.kind === "source" || (side.kind === "version" && side.view === "reach")))
      return;
    const later = setTimeout(() => {
      if (waiting()) fetchAll([...wanted, ...wanted.map(draftOf)]);
    }, DRAFT_AFTER_MS);
    return () => clearTimeout(later);
  });

  // The range of a loop is fetched ahead, for the pictures that are shown now.
  $effect(() => {
    if (!player.shown) return;
    void [player.range, region, scale, sides, bench.looks.on, JSON.stringify(bench.closer)];
    const later = setTimeout(
      () => untrack(() => void player.fill(bitmaps, addressesAt, () => arrivals++)),
      FILL_AFTER_MS,
    );
    return () => clearTimeout(later);
  });

  $effect(() => {
    if (!player.playing) return;
    void [player.speed, player.range];
    return untrack(() => player.run((n) => addressesAt(n).every((address) => bitmaps.has(address))));
  });

  function panesOf(pictures: (ImageBitmap | undefined)[]): Pane[] {
    const area = region ?? { x: 0, y: 0, ...frame };
    if (pictures.length < 2) return [{ picture: pictures[0], area, placement, clip: null }];
    const [one, two] = pictures;
    if (!beside)
      return [
        { picture: one, area, placement, clip: halfPlane(line, -1) },
        { picture: two, area, placement, clip: halfPlane(line, 1) },
      ];
    return [
      { picture: one, area, placement: inOneRoom, clip: rectangle(0, 0, room.width - 1, room.height - 1) },
      { picture: two, area, placement, clip: rectangle(second.x, second.y, room.width, room.height) },
    ];
  }

  $effect(() => {
    void arrivals;
    const context = canvas?.getContext("2d", { alpha: false });
    if (!canvas || !context) return;
    if (canvas.width !== canvasRoom.width || canvas.height !== canvasRoom.height) {
      canvas.width = canvasRoom.width;
      canvas.height = canvasRoom.height;
    }
    const pictures = addresses.map((address) => bitmaps.have(address) ?? bitmaps.have(draftOf(address)));
    if (!canvas.dataset.shown) drawPanes(context, [], canvasRoom);
    if (pictures.length && pictures.every((picture) => picture !== undefined)) {
      drawPanes(context, panesOf(pictures), canvasRoom);
      coarse = waiting();
      if (!coarse) canvas.dataset.shown = addresses.join(" ");
    }
  });

  $effect(() => bench.noteAddress());

  function toSource(event: PointerEvent | WheelEvent): { x: number; y: number } {
    const box = canvas?.getBoundingClientRect() ?? { left: 0, top: 0 };
    const at = {
      x: ((event.clientX - box.left) * ratio) / bench.aspect,
      y: (event.clientY - box.top) * ratio,
    };
    const { offsetX, offsetY } = at.x < second.x || at.y < second.y ? inOneRoom : placement;
    return {
      x: (at.x - offsetX) / scale,
      y: (at.y - offsetY) / scale,
    };
  }

  function press(event: PointerEvent) {
    if (event.button !== 0) return;
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    const at = toSource(event);
    if (bench.choosingInset) {
      compare.inset = { x: Math.round(at.x), y: Math.round(at.y) };
      bench.choosingInset = false;
    } else if (bench.reach.picking) void bench.reach.sample(at.x, at.y);
    else if (bench.drawing) start = at;
    else drag = { x: event.clientX, y: event.clientY, cx: middle.x, cy: middle.y };
  }

  function move(event: PointerEvent) {
    if (start) drawn = boxBetween(start, toSource(event), frame);
    else if (drag)
      bench.centre = {
        x: held(
          drag.cx - ((event.clientX - drag.x) * ratio) / scale / bench.aspect,
          frame.width,
          room.width,
          scale,
        ),
        y: held(drag.cy - ((event.clientY - drag.y) * ratio) / scale, frame.height, room.height, scale),
      };
    else if (!player.playing) void read(event);
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
</script>

<div class="relative h-full w-full overflow-hidden bg-surround" role="application" aria-label="Picture">
  <!-- Pixels that are not square: all that lies on the picture is drawn by square ones, and then widened. -->
  <div
    class="relative h-full origin-left"
    style:width={`${100 / bench.aspect}%`}
    style:transform={bench.aspect === 1 ? null : `scaleX(${bench.aspect})`}
    bind:clientWidth={width}
    bind:clientHeight={height}
  >
    <canvas
      bind:this={canvas}
      class={[
        "block h-full w-full touch-none",
        bench.drawing || bench.reach.picking || bench.choosingInset
          ? "cursor-crosshair"
          : "cursor-grab active:cursor-grabbing",
      ]}
      onpointerdown={press}
      onpointermove={move}
      onpointerup={release}
      onpointercancel={release}
      onpointerleave={() => (readout = null)}
      onwheel={wheel}
    ></canvas>
    <OverworkMap {bench} {placement} {ratio} />
    <PatchLayer {bench} {placement} {ratio} {drawn} />
    <ShapeLayer {bench} {placement} {ratio} />
    {#if compare.mode === "wipe" && sides.length > 1}<WipeHandle
        desk={compare}
        {line}
        {ratio}
        aspect={bench.aspect}
      />{/if}
    {#if compare.inset}<Inset {bench} {sides} />{/if}
  </div>
  <p
    class="pointer-events-none absolute top-2 left-3 bg-black/60 px-1.5 text-on-picture"
    data-testid="picture-label"
  >
    {sides.map((side) => compare.nameOf(side)).join(" | ")}{compare.holding ? " (held)" : ""}{bench.looks.on
      ? " · under the look"
      : ""}
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
