import { api, asked, type HueSample, type Reach, type Shape, type View } from "../api/client";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";
import type { VersionDesk } from "./versions.svelte";
import { controlsOf } from "./schema";

export type Point = [number, number];

/** What it knows of the Bench. */
type Known = Stand & {
  readonly view: View;
  zoom: number | null;
  readonly versions: Pick<VersionDesk, "changeStep" | "saved">;
  show(view: View): void;
};

/** Work on where one step acts. Points are in source pixels. */
export class ReachDesk {
  /** The step whose Reach is worked on, and whose matte the view shows. */
  step = $state(0);
  open = $state(false);
  /** Waiting for a click on the picture: that colour is added, or taken away. */
  picking = $state<"add" | "remove" | null>(null);
  /** The points of each shape at the frame that is shown. */
  points = $state<Point[][]>([]);
  parts = $state<Record<string, Record<string, unknown>>>({});

  constructor(private readonly bench: Known) {}

  /** The Reach of a step; what is not in it has its default. */
  of(step: number): Partial<Reach> {
    return this.bench.version?.plan.steps?.[step]?.reach ?? {};
  }

  /** The defaults of a part, as the engine's parameter model has them. */
  standard<Part>(part: string): Part {
    const controls = controlsOf(this.parts[part] ?? {});
    return Object.fromEntries(controls.map((control) => [control.name, control.standard])) as Part;
  }

  get shapes(): Shape[] {
    return this.open ? (this.of(this.step).shapes ?? []) : [];
  }

  change(step: number, change: Partial<Reach>): void {
    this.bench.versions.changeStep(step, { reach: { ...this.of(step), ...change } as Reach });
  }

  /** Show a step's matte, or go back to the result. */
  toggleMatte(step: number): void {
    const showing = this.bench.view === "reach" && this.step === step;
    this.step = step;
    this.bench.show(showing ? "result" : "reach");
  }

  /** Take the colour at a place of the picture. */
  sample = (x: number, y: number) =>
    notices.watch(async () => {
      const version = this.bench.version;
      const remove = this.picking === "remove";
      this.picking = null;
      if (!version) return;
      const params = { path: { version_id: version.id, step: this.step } };
      const body = { n: this.bench.n, x, y, remove };
      const hue = await asked(api.POST("/api/versions/{version_id}/steps/{step}/hue", { params, body }));
      this.change(this.step, { hues: [...(this.of(this.step).hues ?? []), hue] });
    });

  changeHue(step: number, at: number, change: Partial<HueSample>): void {
    const hues = (this.of(step).hues ?? []).map((hue, k) => (k === at ? { ...hue, ...change } : hue));
    this.change(step, { hues });
  }

  /** A new shape in the middle of what is seen. */
  addShape(step: number, kind: Shape["kind"]): void {
    const media = this.bench.shot?.media ?? { width: 2, height: 2 };
    const { x, y } = this.bench.centre ?? { x: media.width / 2, y: media.height / 2 };
    const size = media.height / 5 / Math.max((this.bench.zoom ?? 100) / 100, 1);
    const points: Point[] =
      kind === "ellipse"
        ? [
            [x, y],
            [x + 1.4 * size, y],
            [x, y + size],
          ]
        : [
            [x - size, y - size],
            [x + size, y - size],
            [x + size, y + size],
            [x - size, y + size],
          ];
    const key = { frame: this.bench.n, points };
    const shape: Shape = { ...this.standard<Shape>("shape"), kind, keys: [key] };
    const shapes = this.of(step).shapes ?? [];
    this.points = [...this.points.slice(0, shapes.length), points];
    this.change(step, { shapes: [...shapes, shape] });
  }

  changeShape(step: number, at: number, change: Partial<Shape>): void {
    const shapes = (this.of(step).shapes ?? []).map((shape, k) =>
      k === at ? { ...shape, ...change } : shape,
    );
    this.change(step, { shapes });
  }

  dropShape(step: number, at: number): void {
    this.change(step, { shapes: (this.of(step).shapes ?? []).toSpliced(at, 1) });
  }

  /** Set the points of a shape at this frame. A shape that stands still is changed at all frames. */
  setPoints(at: number, points: Point[]): void {
    const [only, ...more] = this.shapes[at]?.keys ?? [];
    this.points = this.points.with(at, points);
    if (only && !more.length) this.changeShape(this.step, at, { keys: [{ ...only, points }] });
    else this.putKey(this.step, at, points);
  }

  /** Hold the shape, as it is now, at this frame: from here on it can move. */
  keyHere(step: number, at: number): void {
    const points = this.points[at];
    if (points) this.putKey(step, at, points);
  }

  private putKey(step: number, at: number, points: Point[]): void {
    const frame = this.bench.n;
    const others = (this.of(step).shapes?.[at]?.keys ?? []).filter((key) => key.frame !== frame);
    // A point more or less is one in every key.
    const fitting = others.filter((key) => key.points.length === points.length);
    const keys = [...fitting, { frame, points }].sort((a, b) => a.frame - b.frame);
    this.changeShape(step, at, { keys });
  }

  dropKey(step: number, at: number): void {
    const keys = this.of(step).shapes?.[at]?.keys ?? [];
    this.changeShape(step, at, { keys: keys.filter((key) => key.frame !== this.bench.n) });
  }

  /** Ask where the shapes lie at a frame; the engine moves them between their keys. */
  locate = (version: number, step: number, n: number) =>
    notices.watch(async () => {
      const params = { path: { version_id: version, step }, query: { n } };
      const found = await asked(api.GET("/api/versions/{version_id}/steps/{step}/shapes", { params }));
      // While changes are on their way, what is on the screen is newer.
      if (this.bench.versions.saved && this.step === step && this.bench.n === n)
        this.points = found as Point[][];
    });
}
