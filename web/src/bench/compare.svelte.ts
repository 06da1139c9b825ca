import {
  api,
  asked,
  formatOf,
  SOURCE,
  type Side,
  type Still,
  type StillWish,
  type View,
} from "../api/client";
import { clamp } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";
import type { Change, History } from "./history.svelte";

/** How two sides share the picture: one alone, parted by a line, or beside one another. */
export type Mode = "alone" | "wipe" | "beside";

/** What it knows of the Bench. */
type Known = Stand & {
  readonly view: View;
  readonly titleOfOwn: string;
  readonly history: History;
  go(n: number): void;
};

/** What the picture is compared with, and how; and the stills that were kept for it. */
export class CompareDesk {
  mode = $state<Mode>("alone");
  /** Where the wipe's line stands along its normal, 0-1 over the frame, and how it leans, in degrees. */
  share = $state(0.5);
  angle = $state(0);
  /** The other side takes the picture: while a key is held, or until it is pressed again. */
  holding = $state(false);
  toggled = $state(false);
  stills = $state<Still[]>([]);
  /** "source", "version 3" or "still 5". */
  against = $state("source");
  /** A side that takes the place of the version's views, named like `against`; empty for none. */
  front = $state("");
  /** Middle of the magnified inset in source pixels, and how much it magnifies. */
  inset = $state<{ x: number; y: number } | null>(null);
  magnified = $state(4);

  readonly other = $derived<Side>(this.sideOf(this.against));
  readonly frontSide = $derived<Side | null>(this.front ? this.sideOf(this.front) : null);
  /** The other side instead of the picture's own. */
  readonly swapped = $derived(this.holding !== this.toggled);

  constructor(private readonly bench: Known) {}

  private sideOf(named: string): Side {
    const [kind, id] = named.split(" ");
    const still = kind === "still" ? this.stills.find((s) => s.id === Number(id)) : undefined;
    if (still) return { kind: "still", still };
    const version = kind === "version" ? this.bench.shot?.plans.find((v) => v.id === Number(id)) : undefined;
    return version ? { kind: "version", version, view: "result", step: 0 } : SOURCE;
  }

  /** What the sides are called on the picture. */
  nameOf(side: Side): string {
    if (side.kind === "source") return "Source";
    const beside = formatOf(side)?.beside_source ? ` (${formatOf(side)?.beside_source})` : "";
    if (side.kind === "still") return `Still ${side.still.name}${beside}`;
    if (side.view === "reach") return `Reach of step ${side.step + 1}`;
    if (side.view === "own") return `${this.bench.titleOfOwn} of step ${side.step + 1}`;
    const several = (this.bench.shot?.plans.length ?? 1) > 1;
    const name = side.view === "removed" ? "Removed" : "Result";
    return (several ? `${name} ${side.version.label}` : name) + beside;
  }

  load = () =>
    notices.watch(async () => {
      if (!this.bench.shot) return;
      const params = { path: { job_id: this.bench.shot.job_id } };
      const all = await asked(api.GET("/api/jobs/{job_id}/stills", { params }));
      this.stills = all.filter((still) => still.shot_id === this.bench.shot?.id);
    });

  /** Keep the frame of the version (or of the source) as it is now. */
  keep = () =>
    notices.watch(async () => {
      const { n, version, view } = this.bench;
      const still = await this.kept({
        n,
        version_id: view === "source" ? null : version?.id,
        name: "",
        label: "",
      });
      if (still) this.bench.history.note(changeOf(still));
    });

  rename = (still: Still, name: string) =>
    notices.watch(async () => {
      const params = { path: { still_id: still.id } };
      const renamed = await asked(api.PATCH("/api/stills/{still_id}", { params, body: { name } }));
      this.stills = this.stills.map((s) => (s.id === still.id ? renamed : s));
    });

  /** Delete a still; undo brings it back. */
  drop = (still: Still) =>
    notices.watch(async () => {
      await this.remove(still);
      this.bench.history.note(changeOf(still));
    });

  /** Undo or redo that a still was kept or deleted. */
  async travel(change: Extract<Change, { what: "still" }>): Promise<Change | undefined> {
    const there = this.stills.find((s) => s.id === change.id);
    if (there) {
      await this.remove(there);
      return changeOf(there);
    }
    const made = await this.kept(change.still);
    if (!made) return;
    this.bench.history.renumber("still", change.id, made.id);
    return changeOf(made);
  }

  private async kept(body: StillWish): Promise<Still | undefined> {
    if (!this.bench.shot) return;
    const params = { path: { shot_id: this.bench.shot.id } };
    const still = await asked(api.POST("/api/shots/{shot_id}/stills", { params, body }));
    this.stills = [...this.stills, still];
    return still;
  }

  private async remove(still: Still): Promise<void> {
    await asked(api.DELETE("/api/stills/{still_id}", { params: { path: { still_id: still.id } } }));
    this.stills = this.stills.filter((s) => s.id !== still.id);
    if (this.against === `still ${still.id}`) this.against = "source";
    if (this.front === `still ${still.id}`) this.front = "";
  }

  /** Compare with a still, at the frame it keeps. */
  useStill(still: Still): void {
    this.against = `still ${still.id}`;
    this.bench.go(still.n);
    if (this.mode === "alone") this.mode = "wipe";
  }

  /** Show a still in the version's place, until a view is chosen again. */
  putInFront(still: Still): void {
    this.front = `still ${still.id}`;
    this.bench.go(still.n);
  }

  choose(mode: Mode): void {
    this.mode = this.mode === mode ? "alone" : mode;
  }

  lean(by: number): void {
    this.angle = ((((this.angle + by) % 360) + 540) % 360) - 180;
  }

  slide(to: number): void {
    this.share = clamp(to, 0, 1);
  }
}

/** That a still was kept, or deleted: all it is made of. */
function changeOf(still: Still): Change {
  const { id, n, name, label, plan, look } = $state.snapshot(still) as Still;
  return { what: "still", id, still: { n, name, label, plan, look } };
}
