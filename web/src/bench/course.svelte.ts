import { api, asked, type Course } from "../api/client";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";

/** Frames by which one may go from where a curve was asked for before it is asked for again. */
const NEAR = 60;

/** What it knows of the Bench. */
type Known = Stand & { readonly versions: { readonly saved: boolean } };

/** The curve of what a step changes over time, under the scrub bar. */
export class CourseDesk {
  /** The step whose curve is shown; null for none. */
  step = $state<number | null>(null);
  course = $state.raw<Course | null>(null);

  constructor(private readonly bench: Known) {}

  toggle(step: number): void {
    this.step = this.step === step ? null : step;
    this.course = null;
  }

  /** Ask for the curve whenever the plan, the step or the place in the shot is another one. */
  follow(): (() => void) | undefined {
    const { version } = this.bench;
    const n = Math.round(this.bench.n / NEAR) * NEAR;
    const step = this.step;
    // read, so that a change of the steps asks again; what was not saved yet is not known to the server
    const steps = version?.plan.steps;
    if (!version || step === null || !this.bench.versions.saved) return;
    if (!steps?.[step]) {
      this.step = this.course = null;
      return;
    }
    const leaving = new AbortController();
    void notices.watch(async () => {
      const params = { path: { version_id: version.id, step }, query: { n } };
      this.course = await asked(
        api.GET("/api/versions/{version_id}/steps/{step}/course", { params, signal: leaving.signal }),
      );
    });
    return () => leaving.abort();
  }
}
