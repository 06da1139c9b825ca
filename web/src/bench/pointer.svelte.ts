import { api, type Patch, type Pixel } from "../api/client";
import { boxBetween, ZOOMS, type Box } from "../lib/geometry";
import type { Sight } from "./sight.svelte";
import type { Stand } from "./stand";

/** Waiting for a click on the picture, for whatever `name` says; `take` is given the place in source pixels. */
export interface Pick {
  readonly name: string;
  take(x: number, y: number): void;
}

/** What it knows of the Bench. */
type Known = Stand & {
  zoom: number | null;
  readonly aspect: number;
  readonly drawing: boolean;
  pick: Pick | null;
  readonly reach: { readonly picking: string | null; sample(x: number, y: number): unknown };
  readonly player: { readonly playing: boolean };
  judge(patch: Patch): unknown;
};

/** What the pointer does on the picture: pick, draw a patch, drag, zoom, and read the pixel under it. */
export class Pointer {
  /** The patch that is being drawn. */
  drawn = $state<Box | null>(null);
  readout = $state<{ x: number; y: number; pixel: Pixel } | null>(null);
  private start: { x: number; y: number } | null = null;
  private drag: { x: number; y: number; cx: number; cy: number } | null = null;
  private asking = false;

  constructor(
    private readonly bench: Known,
    private readonly sight: Sight,
  ) {}

  /** Whether a click does more than take hold of the picture. */
  get aims(): boolean {
    return this.bench.drawing || this.bench.reach.picking !== null || this.bench.pick !== null;
  }

  press = (event: PointerEvent) => {
    if (event.button !== 0) return;
    (event.currentTarget as Element).setPointerCapture(event.pointerId);
    const at = this.place(event);
    const { pick, reach, drawing } = this.bench;
    if (pick) {
      pick.take(Math.round(at.x), Math.round(at.y));
      this.bench.pick = null;
    } else if (reach.picking) void reach.sample(at.x, at.y);
    else if (drawing) this.start = at;
    else this.drag = { x: event.clientX, y: event.clientY, cx: this.sight.middle.x, cy: this.sight.middle.y };
  };

  move = (event: PointerEvent) => {
    if (this.start) this.drawn = boxBetween(this.start, this.place(event), this.sight.frame);
    else if (this.drag) {
      const { x, y, cx, cy } = this.drag;
      const { ratio, scale } = this.sight;
      this.bench.centre = this.sight.heldMiddle({
        x: cx - ((event.clientX - x) * ratio) / scale / this.bench.aspect,
        y: cy - ((event.clientY - y) * ratio) / scale,
      });
    } else if (!this.bench.player.playing) void this.read(event);
  };

  release = () => {
    const { drawn } = this;
    if (this.start && drawn && drawn.width > 1 && drawn.height > 1)
      void this.bench.judge({ ...drawn, frame: this.bench.n });
    this.start = this.drawn = this.drag = null;
  };

  leave = () => {
    this.readout = null;
  };

  wheel = (event: WheelEvent) => {
    event.preventDefault();
    const { scale, ratio, middle } = this.sight;
    const now = this.bench.zoom ?? (scale / ratio) * 100;
    const next = event.deltaY < 0 ? ZOOMS.find((z) => z > now + 1) : ZOOMS.findLast((z) => z < now - 1);
    if (next === undefined) return;
    const at = this.place(event);
    const factor = ((next / 100) * ratio) / scale;
    this.bench.centre = { x: at.x + (middle.x - at.x) / factor, y: at.y + (middle.y - at.y) / factor };
    this.bench.zoom = next;
  };

  private place(event: MouseEvent): { x: number; y: number } {
    const { left, top } = (event.currentTarget as Element).getBoundingClientRect();
    return this.sight.toSource(event.clientX - left, event.clientY - top);
  }

  /** Read the pixel under the pointer from the picture itself, one request at a time. */
  private async read(event: PointerEvent): Promise<void> {
    const at = this.place(event);
    const [x, y] = [Math.floor(at.x), Math.floor(at.y)];
    const { frame } = this.sight;
    if (x < 0 || y < 0 || x >= frame.width || y >= frame.height) this.readout = null;
    else if (!this.asking && this.bench.shot) {
      this.asking = true;
      const pixel = await pixelAt(this.bench, x, y);
      if (pixel) this.readout = { x, y, pixel };
      this.asking = false;
    }
  }
}

/** One pixel of the frame that is shown, of the source and of the version's result. */
export async function pixelAt(bench: Stand, x: number, y: number): Promise<Pixel | undefined> {
  if (!bench.shot) return;
  const query = { n: bench.n, x, y, version_id: bench.version?.id };
  const params = { path: { shot_id: bench.shot.id }, query };
  return (await api.GET("/api/shots/{shot_id}/pixel", { params })).data;
}
