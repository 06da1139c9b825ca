import { fitScale, held, place, visible, type Box, type Placement } from "../lib/geometry";
import { wipeLine } from "./draw";
import type { Stand } from "./stand";

/** What it knows of the Bench. */
type Known = Stand & {
  readonly zoom: number | null;
  readonly aspect: number;
  readonly compare: { mode: string; share: number; angle: number };
};

const GRID = 64;
/** Small frames are fitted no larger than this. */
const MOST_FIT = 4;
/** How many times as large as its place a picture may be before a smaller one is fetched. */
const KEPT_OVER = 1.6;

/** How the frame lies on the screen, for one side or two beside one another. All in device pixels. */
export class Sight {
  /** Size of the picture's place on the page, in CSS pixels. */
  width = $state(0);
  height = $state(0);
  /** Device pixels in a CSS pixel. */
  readonly ratio = devicePixelRatio || 1;

  constructor(
    private readonly bench: Known,
    private readonly count: () => number,
  ) {}

  readonly frame = $derived.by(() => ({
    width: this.bench.shot?.media.width ?? 1,
    height: this.bench.shot?.media.height ?? 1,
  }));
  readonly beside = $derived.by(() => this.bench.compare.mode === "beside" && this.count() > 1);
  /** What both sides have together. */
  readonly canvas = $derived({
    width: Math.max(Math.round(this.width * this.ratio), 1),
    height: Math.max(Math.round(this.height * this.ratio), 1),
  });
  /** What one side has of the screen: half of it, beside or above the other, whichever shows more. */
  readonly room = $derived.by(() => {
    if (!this.beside) return this.canvas;
    const across = { ...this.canvas, width: Math.round(this.canvas.width / 2) };
    const down = { ...this.canvas, height: Math.round(this.canvas.height / 2) };
    return fitScale(this.frame, across) > fitScale(this.frame, down) ? across : down;
  });
  /** Where the second side's room begins. */
  readonly second = $derived({
    x: this.room.width < this.canvas.width ? this.room.width : 0,
    y: this.room.height < this.canvas.height ? this.room.height : 0,
  });
  readonly scale = $derived.by(() =>
    this.bench.zoom === null
      ? Math.min(fitScale(this.frame, this.room), MOST_FIT)
      : (this.bench.zoom / 100) * this.ratio,
  );
  /** Pixels to one of the source that pictures are asked for in: those that are here serve a smaller place too, so
   * that a window that is resized, or a panel that opens, keeps what was fetched. */
  readonly asked = $derived.by(() => {
    if (this.bench.zoom !== null || this.scale >= 1) return this.scale;
    if (this.lastAsked < this.scale || this.lastAsked > KEPT_OVER * this.scale) this.lastAsked = this.scale;
    return this.lastAsked;
  });
  private lastAsked = 0;
  readonly middle = $derived.by(() => this.heldMiddle(this.bench.centre));
  /** Where the first side lies. */
  readonly first = $derived<Placement>(place(this.scale, this.middle.x, this.middle.y, this.room));
  /** Where the last side lies, on which one works. */
  readonly placement = $derived<Placement>({
    ...this.first,
    offsetX: this.first.offsetX + this.second.x,
    offsetY: this.first.offsetY + this.second.y,
  });
  readonly visible = $derived<Box>(visible(this.first, this.room, this.frame, GRID));
  /** Reduced pictures are asked for whole; from 100 % on only the visible part is. */
  readonly region = $derived<Box | null>(this.scale >= 1 ? this.visible : null);
  readonly line = $derived.by(() =>
    wipeLine(this.bench.compare.share, this.bench.compare.angle, this.frame, this.placement),
  );

  /** The middle of the view, moved so that the frame is not lost. */
  heldMiddle(centre: { x: number; y: number } | null): { x: number; y: number } {
    const { width, height } = this.frame;
    return {
      x: held(centre?.x ?? width / 2, width, this.room.width, this.scale),
      y: held(centre?.y ?? height / 2, height, this.room.height, this.scale),
    };
  }

  /** The place of the frame under a point of the canvas, in CSS pixels from its corner. */
  toSource(x: number, y: number): { x: number; y: number } {
    const at = { x: (x * this.ratio) / this.bench.aspect, y: y * this.ratio };
    const { offsetX, offsetY } = at.x < this.second.x || at.y < this.second.y ? this.first : this.placement;
    return { x: (at.x - offsetX) / this.scale, y: (at.y - offsetY) / this.scale };
  }
}
