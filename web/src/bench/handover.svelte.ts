import { api, asked, type Preset, type Shot, type Step } from "../api/client";
import { keep, kept } from "../lib/kept";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";
import type { VersionDesk } from "./versions.svelte";

const COPIED = "copied steps";

/** What it knows of the Bench. */
type Known = Stand & { readonly versions: Pick<VersionDesk, "addSteps">; reload(): Promise<void> };

/** Steps on their way to other places: copied ones, presets, and a plan for many shots. */
export class HandoverDesk {
  copied = $state<Step[]>(kept<Step[]>(COPIED, []));
  presets = $state<Preset[]>([]);
  shots = $state<Shot[]>([]);

  constructor(private readonly bench: Known) {}

  load = () =>
    notices.watch(async () => {
      this.presets = await asked(api.GET("/api/presets"));
    });

  /** Copy one step, or the whole plan. */
  copy(step?: Step): void {
    const steps = step ? [step] : (this.bench.version?.plan.steps ?? []);
    this.copied = $state.snapshot(steps) as Step[];
    keep(COPIED, $state.snapshot(this.copied));
  }

  /** Add what was copied behind the plan's own steps; where there is no plan, one begins with it. */
  paste = () =>
    this.bench.version
      ? Promise.resolve(this.bench.versions.addSteps($state.snapshot(this.copied) as Step[]))
      : this.toShots([this.bench.shot?.id ?? 0], $state.snapshot(this.copied) as Step[], "Pasted");

  savePreset = (name: string) =>
    notices.watch(async () => {
      const steps = $state.snapshot(this.bench.version?.plan.steps ?? []) as Step[];
      const saved = await asked(api.POST("/api/presets", { body: { name, steps } }));
      this.presets = [...this.presets.filter((p) => p.id !== saved.id), saved];
    });

  dropPreset = (preset: Preset) =>
    notices.watch(async () => {
      await asked(api.DELETE("/api/presets/{preset_id}", { params: { path: { preset_id: preset.id } } }));
      this.presets = this.presets.filter((p) => p.id !== preset.id);
    });

  /** A new version from a preset. */
  usePreset = (preset: Preset) =>
    this.toShots([this.bench.shot?.id ?? 0], $state.snapshot(preset.steps) as Step[], preset.name);

  /** The job's shots, to choose from. */
  loadShots = () =>
    notices.watch(async () => {
      if (!this.bench.shot) return;
      const params = { path: { job_id: this.bench.shot.job_id } };
      this.shots = await asked(api.GET("/api/jobs/{job_id}/shots", { params }));
    });

  /** Give shots of this job a new version of these steps, each with its own profile. */
  toShots = (ids: number[], steps: Step[], note: string) =>
    notices.watch(async () => {
      const { shot } = this.bench;
      if (!shot) return;
      const params = { path: { job_id: shot.job_id } };
      const body = { shot_ids: ids, steps, note };
      const applied = await asked(api.POST("/api/jobs/{job_id}/apply", { params, body }));
      applied.refused.forEach((line) => notices.tell(line));
      if (ids.includes(shot.id)) await this.bench.reload();
    });
}
