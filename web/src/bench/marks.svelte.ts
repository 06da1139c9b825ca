import { api, asked, type Mark } from "../api/client";
import type { Box } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import type { Pick as Waiting } from "./pointer.svelte";
import type { Stand } from "./stand";
import type { VersionDesk } from "./versions.svelte";

/** Pixels around a mark within which a click is meant for it. */
const NEAR = 8;

/** A frame (-1 for all), x and y. */
type Place = [number, number, number];

/** What it knows of the Bench. */
type Known = Stand & {
  pick: Waiting | null;
  readonly versions: Pick<VersionDesk, "changeStep" | "saved">;
  goTo(n: number, place: Box | null): void;
};

/** The single things that a step found in the frame on the screen: each can be left or taken, and others drawn. */
export class MarkDesk {
  step = $state<number | null>(null);
  marks = $state.raw<Mark[]>([]);
  /** Number of the mark that is chosen. */
  at = $state(0);

  /** The kinds there are, in the order in which they are first met. */
  readonly kinds = $derived(
    this.marks.map((mark) => mark.kind).filter((kind, k, all) => all.indexOf(kind) === k),
  );

  constructor(private readonly bench: Known) {}

  toggle(step: number): void {
    this.step = this.step === step ? null : step;
    this.marks = [];
  }

  /** Ask for the marks whenever the plan, the step or the frame is another one. */
  follow(): (() => void) | undefined {
    const { version, n } = this.bench;
    const step = this.step;
    // read, so that a change of the steps asks again; what was not saved yet is not known to the server
    const steps = version?.plan.steps?.slice(0, (step ?? 0) + 1);
    if (!version || step === null || !steps || !this.bench.versions.saved) return;
    const leaving = new AbortController();
    void notices.watch(async () => {
      const params = { path: { version_id: version.id, step }, query: { n } };
      this.marks = await asked(
        api.GET("/api/versions/{version_id}/steps/{step}/marks", { params, signal: leaving.signal }),
      );
      this.at = Math.min(this.at, Math.max(this.marks.length - 1, 0));
    });
    return () => leaving.abort();
  }

  /** Choose a mark, and look at it. */
  choose(at: number): void {
    const mark = this.marks[at];
    if (!mark) return;
    this.at = at;
    this.bench.goTo(this.bench.n, mark);
  }

  /** Leave what is taken, or take what was left. What was drawn goes from the list. */
  set(marks: Mark[], taken: boolean): void {
    const { left, drawn } = this.settings;
    const found = marks.filter((mark) => mark.kind !== "drawn").map(placeOf);
    const ours = marks.filter((mark) => mark.kind === "drawn").map(placeOf);
    const others = left.filter((place) => !found.some((other) => same(place, other)));
    this.change({
      left: taken ? others : [...others, ...found],
      drawn: drawn.filter((place) => taken || !ours.some((other) => same(place, other))),
    });
  }

  /** Wait for a click on the picture: on a mark it is left or taken, elsewhere something is drawn. */
  clickOne(): void {
    const take = (x: number, y: number) => {
      const hit = this.marks.find((mark) => isNear(mark, x, y));
      if (hit) this.set([hit], !hit.taken);
      else this.change({ ...this.settings, drawn: [...this.settings.drawn, [this.bench.n, x, y]] });
    };
    this.bench.pick = this.bench.pick?.name === "marks" ? null : { name: "marks", take };
  }

  private get settings(): { left: Place[]; drawn: Place[] } {
    const settings = this.bench.version?.plan.steps?.[this.step ?? 0]?.settings;
    return { left: [], drawn: [], ...(settings as Partial<{ left: Place[]; drawn: Place[] }>) };
  }

  private change(places: { left: Place[]; drawn: Place[] }): void {
    if (this.step === null) return;
    const settings = this.bench.version?.plan.steps?.[this.step]?.settings ?? {};
    const { left, drawn } = places;
    this.bench.versions.changeStep(this.step, { settings: { ...settings, left, drawn } });
  }
}

function placeOf(mark: Mark): Place {
  return [mark.frame, mark.x + Math.floor(mark.width / 2), mark.y + Math.floor(mark.height / 2)];
}

function same(one: Place, other: Place): boolean {
  return one.every((value, k) => value === other[k]);
}

function isNear(mark: Mark, x: number, y: number): boolean {
  const across = x >= mark.x - NEAR && x < mark.x + mark.width + NEAR;
  return across && y >= mark.y - NEAR && y < mark.y + mark.height + NEAR;
}
