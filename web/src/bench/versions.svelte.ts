import { api, asked, Changed, type Plan, type Step, type Version } from "../api/client";
import { changedNumber } from "../lib/changes";
import { Away, connection } from "../lib/connection.svelte";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";
import type { Change, Told, History } from "./history.svelte";

/** A drag changes many times a second: it is sent as often as the server keeps up. */
const SAVE_AFTER_MS = 40;
const MEASURE_AFTER_MS = 900;

/** What it knows of the Bench. */
type Known = Stand & {
  readonly id: number;
  readonly history: History;
  versionId: number | null;
  load(): Promise<void>;
  measureRemaining(): Promise<void>;
};

/** Work on the steps of the current version, and on the versions themselves. */
export class VersionDesk {
  private saving: ReturnType<typeof setTimeout> | undefined;
  private measuringSoon: ReturnType<typeof setTimeout> | undefined;
  private sending = false;
  private adding: Promise<void> = Promise.resolve();
  /** The version on the screen, where another window has changed it too. */
  clashing = $state<Version | null>(null);
  private changes = $state(0);
  private sent = $state(0);

  constructor(private readonly bench: Known) {}

  private get steps(): Step[] {
    return this.bench.version?.plan.steps ?? [];
  }

  /** Whether the server knows of every change. */
  get saved(): boolean {
    return this.sent === this.changes;
  }

  /** Change one step; the change can be undone and is saved a moment later. */
  changeStep(index: number, change: Partial<Step>): void {
    this.changeSteps(this.steps.map((step, k) => (k === index ? { ...step, ...change } : step)));
  }

  /** Repeat a step behind itself; it then measures what the first has left. */
  repeatStep(index: number): void {
    const twin = { ...$state.snapshot(this.steps[index]), reason: "" };
    this.changeSteps(this.steps.toSpliced(index + 1, 0, twin as Step));
  }

  dropStep(index: number): void {
    this.changeSteps(this.steps.toSpliced(index, 1));
  }

  /** Move a step to another place of the order. */
  moveStep(index: number, to: number): void {
    const moved = this.steps[index];
    if (moved && to >= 0 && to < this.steps.length)
      this.changeSteps(this.steps.toSpliced(index, 1).toSpliced(to, 0, moved));
  }

  /** Add a step, set by what was measured; where there is no plan yet, one begins with it. One after the other: the second
   * of two quick ones belongs to the plan that the first began. */
  addStep = (kind: string) => (this.adding = this.adding.then(() => this.added(kind)));

  private added = (kind: string) =>
    notices.watch(async () => {
      const { version, shot } = this.bench;
      if (!shot || (!version && !shot.report)) return;
      const params = { path: { shot_id: shot.id }, query: { kind } };
      const step = (await asked(api.GET("/api/shots/{shot_id}/offer", { params }))) as Step;
      if (this.bench.version) return this.addSteps([step]);
      if (!shot.report) return;
      const profile = $state.snapshot(shot.report.profile);
      const plan = { schema: "yellow-clean/plan/1", profile, steps: [step] } as unknown as Plan;
      await this.make(plan, "");
    });

  /** Add steps behind those of the version. */
  addSteps(steps: Step[]): void {
    this.changeSteps([...this.steps, ...steps]);
  }

  private changeSteps(steps: Step[]): void {
    const { version, history } = this.bench;
    if (!version) return;
    const before = $state.snapshot(version.plan) as Plan;
    history.note({ what: "plan", id: version.id, plan: before }, changedNumber(version.plan.steps, steps));
    this.put(version, { ...version.plan, steps });
  }

  /** Make a copy of the version and go on with that. */
  duplicate = () =>
    notices.watch(async () => {
      const { version, history } = this.bench;
      if (!version) return;
      const made = await this.make($state.snapshot(version.plan) as Plan, `Copy of ${version.label}`);
      history.note(wholeOf(made));
    });

  /** Delete the version; undo brings it back. */
  delete = () =>
    notices.watch(async () => {
      const { version, history } = this.bench;
      if (!version) return;
      const whole = wholeOf(version);
      await this.remove(version);
      history.note(whole);
    });

  /** Write a note on the version, or name it. */
  tell = (told: Partial<Told>) =>
    notices.watch(async () => {
      const { version, history } = this.bench;
      if (!version) return;
      const before = toldOf(version);
      await this.putTold(version, { ...before, ...told });
      history.note({ what: "told", id: version.id, told: before });
    });

  /** Go to an earlier or later state of a version, and say the way back; nothing where the version is gone. */
  async travel(change: Extract<Change, { what: "plan" | "told" | "version" }>): Promise<Change | undefined> {
    const version = this.bench.shot?.plans.find((v) => v.id === change.id);
    if (change.what === "version") {
      if (version) {
        const whole = wholeOf(version);
        await this.remove(version);
        return whole;
      }
      const made = await this.make(change.plan, change.told.note, change.told.label);
      this.bench.history.renumber("version", change.id, made.id);
      return { ...change, id: made.id };
    }
    if (!version) return;
    this.bench.versionId = version.id;
    if (change.what === "told") {
      const back = { what: "told", id: version.id, told: toldOf(version) } as const;
      await this.putTold(version, change.told);
      return back;
    }
    const back = { what: "plan", id: version.id, plan: $state.snapshot(version.plan) as Plan } as const;
    this.put(version, change.plan);
    return back;
  }

  private async make(plan: Plan, note: string, label?: string): Promise<Version> {
    const params = { path: { shot_id: this.bench.id } };
    const body = { plan, note, label };
    const made = await asked(api.POST("/api/shots/{shot_id}/versions", { params, body }));
    await this.bench.load();
    this.bench.versionId = made.id;
    void notices.watch(() => this.bench.measureRemaining());
    return made;
  }

  private async remove(version: Version): Promise<void> {
    clearTimeout(this.saving);
    const params = { path: { version_id: version.id } };
    await asked(api.DELETE("/api/versions/{version_id}", { params }));
    await this.bench.load();
    void notices.watch(() => this.bench.measureRemaining());
  }

  private async putTold(version: Version, told: Told): Promise<void> {
    const params = { path: { version_id: version.id } };
    const body = { plan: $state.snapshot(version.plan) as Plan, revision: version.revision, ...told };
    try {
      const saved = await asked(api.PUT("/api/versions/{version_id}", { params, body }));
      Object.assign(version, toldOf(saved), { revision: saved.revision });
    } catch (error) {
      if (error instanceof Changed) return this.clash(version);
      throw error;
    }
  }

  /** Say that a version was changed from elsewhere; nothing is written over until it is said what is to be kept. */
  private clash(version: Version): void {
    this.clashing = version;
  }

  /** Keep the plan on the screen beside the other one, as a version of its own. */
  keepBoth = () =>
    notices.watch(async () => {
      const version = this.settled();
      if (version) await this.make($state.snapshot(version.plan) as Plan, `Beside ${version.label}`);
    });

  /** Put the plan on the screen over the other one. */
  keepMine = () =>
    notices.watch(async () => {
      const version = this.settled();
      if (!version) return;
      const mine = $state.snapshot(version.plan) as Plan;
      await this.bench.load();
      const now = this.bench.version;
      if (now) this.put(now, mine);
    });

  /** Go on with the other one. */
  keepTheirs = () =>
    notices.watch(async () => {
      this.settled();
      await this.bench.load();
      await this.bench.measureRemaining();
    });

  private settled(): Version | null {
    const version = this.clashing;
    this.clashing = null;
    this.sent = this.changes;
    return version;
  }

  private put(version: Version, plan: Plan): void {
    version.plan = plan;
    this.changes++;
    clearTimeout(this.measuringSoon);
    this.saveSoon(version);
  }

  private saveSoon(version: Version): void {
    clearTimeout(this.saving);
    this.saving = setTimeout(() => void notices.watch(() => this.save(version)), SAVE_AFTER_MS);
  }

  private async save(version: Version): Promise<void> {
    if (this.sending) return this.saveSoon(version);
    this.sending = true;
    const sending = this.changes;
    try {
      const params = { path: { version_id: version.id } };
      const body = { plan: $state.snapshot(version.plan) as Plan, revision: version.revision };
      const saved = await asked(api.PUT("/api/versions/{version_id}", { params, body }));
      version.revision = saved.revision;
      version.key = saved.key;
      version.matte_keys = saved.matte_keys;
      version.view_keys = saved.view_keys;
      version.format = saved.format;
      version.advice = saved.advice;
      version.states = saved.states;
      version.works_in = saved.works_in;
      this.sent = sending;
    } catch (error) {
      if (error instanceof Changed) return this.clash(version);
      if (error instanceof Away) connection.afterwards(() => this.saveSoon(version));
      throw error;
    } finally {
      this.sending = false;
    }
    clearTimeout(this.measuringSoon);
    const measure = () => void notices.watch(() => this.bench.measureRemaining());
    this.measuringSoon = setTimeout(measure, MEASURE_AFTER_MS);
  }
}

function toldOf(version: Version): Told {
  return { note: version.note, label: version.label };
}

function wholeOf(version: Version): Change {
  const plan = $state.snapshot(version.plan) as Plan;
  return { what: "version", id: version.id, plan, told: toldOf(version) };
}
