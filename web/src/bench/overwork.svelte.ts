import { api, asked, type Overwork } from "../api/client";
import { clamp, type Box } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import type { Player } from "./player.svelte";
import type { Stand } from "./stand";

/** What is judged at once at most, in source pixels. */
const MOST = { width: 1280, height: 720 };
/** Frames of a range that are judged. */
const SAMPLES = 5;

/** What it knows of the Bench. */
type Known = Stand & { readonly player: Player; go(n: number): void };

/** The judge's word on the version, and the map that is shown. */
export class OverworkDesk {
  report = $state<Overwork | null>(null);
  judging = $state(false);
  /** Which version, by its key, the report is about. */
  about = $state("");
  region = $state<Box>({ x: 0, y: 0, width: 0, height: 0 });
  shown = $state<string | null>(null);
  private key = $state("");
  private control = new AbortController();

  constructor(private readonly bench: Known) {}

  /** Whether the version has changed since. */
  get stale(): boolean {
    return this.report !== null && this.about !== this.bench.version?.key;
  }

  /** Judge the frame one looks at, or five frames of the loop (of the shot, where none is set). */
  judge = (over: "frame" | "range") =>
    notices.watch(async () => {
      const { shot, version, n } = this.bench;
      if (!shot || !version) return;
      this.region = this.part();
      this.judging = true;
      this.shown = null;
      const frames = over === "frame" ? [n] : this.samples();
      const control = (this.control = new AbortController());
      try {
        const params = { path: { version_id: version.id } };
        const body = { frames, part: this.region };
        const found = await asked(
          api.POST("/api/versions/{version_id}/overwork", { params, body, signal: control.signal }),
        );
        this.report = found.report;
        this.key = found.key;
        this.about = version.key;
      } catch (error) {
        if (!control.signal.aborted) throw error;
      } finally {
        this.judging = false;
      }
    });

  /** Give the judging up; the server ends its work. */
  stop(): void {
    this.control.abort();
  }

  /** Show a measure's map on the frame where it was worst, or take it away again. */
  show(kind: string, frame: number): void {
    this.shown = this.shown === kind ? null : kind;
    if (this.shown) this.bench.go(frame);
  }

  get mapAddress(): string {
    return `/api/overwork/${this.key}/${this.shown}`;
  }

  /** The frame that the shown map is about. */
  get mapFrame(): number | undefined {
    return this.report?.measures.find((m) => m.kind === this.shown)?.frame;
  }

  private samples(): number[] {
    const frames = this.bench.shot?.media.frames ?? 1;
    const { player } = this.bench;
    const { first, last } = player.shown ? player.range : { first: 0, last: frames - 1 };
    const spread = Array.from({ length: SAMPLES }, (_, k) =>
      Math.round(first + ((k + 0.5) / SAMPLES) * (last - first)),
    );
    return spread.filter((n, k) => n !== spread[k - 1]);
  }

  /** The whole frame where it is small enough, else as much as may be around the middle of the view. */
  private part(): Box {
    const media = this.bench.shot?.media ?? { width: 1, height: 1 };
    const [width, height] = [Math.min(MOST.width, media.width), Math.min(MOST.height, media.height)];
    const middle = this.bench.centre ?? { x: media.width / 2, y: media.height / 2 };
    return {
      width,
      height,
      x: Math.round(clamp(middle.x - width / 2, 0, media.width - width)),
      y: Math.round(clamp(middle.y - height / 2, 0, media.height - height)),
    };
  }
}
