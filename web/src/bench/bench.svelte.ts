import {
  api,
  asked,
  listen,
  PLAIN,
  type Closer,
  type NoiseCurve,
  type OutputFormat,
  type Patch,
  type PatchReading,
  type Plan,
  type Profile,
  type ProfileFit,
  type Remaining,
  type Render,
  type ShotDetail,
  type Step,
  type Treatment,
  type Version,
  type View,
} from "../api/client";
import { changedNumber } from "../lib/changes";
import { clamp, type Box } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import { router } from "../lib/router.svelte";
import { CompareDesk } from "./compare.svelte";
import { HandoverDesk } from "./handover.svelte";
import { History, type Change, type Told } from "./history.svelte";
import { LookDesk } from "./look.svelte";
import { OverworkDesk } from "./overwork.svelte";
import { Player } from "./player.svelte";
import { ReachDesk } from "./reach.svelte";
import { StripDesk } from "./strip.svelte";

/** A drag changes many times a second: it is sent as often as the server keeps up, and is one undo. */
const SAVE_AFTER_MS = 40;
const ONE_CHANGE_MS = 800;
const MEASURE_AFTER_MS = 900;
const NOTE_AFTER_MS = 250;
const VIEWS: View[] = ["source", "result", "removed", "reach"];

/** State of the Bench: one shot, where one looks, and what is done to it. */
export class Bench {
  shot = $state<ShotDetail>();
  treatments = $state<Treatment[]>([]);
  formats = $state<OutputFormat[]>([]);
  renders = $state<Render[]>([]);
  remaining = $state<Remaining | null>(null);
  readings = $state<PatchReading[]>([]);
  profiles = $state<Profile[]>([]);
  /** The saved profile to propose by; null is the shot's own. */
  profileId = $state<number | null>(null);
  fit = $state<ProfileFit | null>(null);
  /** The nearest flat place for the patch that was refused last. */
  better = $state<PatchReading | null>(null);
  versionId = $state<number | null>(null);
  n = $state(0);
  view = $state<View>("source");
  zoom = $state<number | null>(null);
  centre = $state<{ x: number; y: number } | null>(null);
  choosingInset = $state(false);
  /** The part of the frame that is seen in full size; null when all of it is seen. */
  visible = $state.raw<Box | null>(null);
  drawing = $state(false);
  /** The place of the finding that was opened last. */
  marked = $state<(Box & { frame: number }) | null>(null);
  computing = $state(false);
  /** How both sides of the picture are looked at. */
  closer = $state<Closer>({ ...PLAIN });

  readonly history: History;
  private saving: ReturnType<typeof setTimeout> | undefined;
  private measuringSoon: ReturnType<typeof setTimeout> | undefined;
  private sending = false;
  private changes = 0;
  private sent = 0;
  private lastChange: { what: string | null; at: number } = { what: null, at: 0 };
  /** Where the steps act, as one works on it. */
  readonly reach = new ReachDesk(this);
  readonly strip = new StripDesk(this);
  readonly compare = new CompareDesk(this);
  readonly looks = new LookDesk(this);
  readonly handover = new HandoverDesk(this);
  readonly overwork = new OverworkDesk(this);
  readonly player = new Player(this);

  readonly version = $derived<Version | null>(this.shot?.plans.find((v) => v.id === this.versionId) ?? null);
  /** The curve of the saved profile that is chosen. */
  readonly savedCurve = $derived<NoiseCurve | null>(
    this.profiles.find((p) => p.id === this.profileId)?.curve ?? null,
  );
  readonly measuring = $derived(
    this.shot?.survey?.state === "queued" || this.shot?.survey?.state === "running",
  );
  /** The view of the version on the screen. */
  readonly shown = $derived<View>(
    !this.version
      ? "source"
      : this.view === "reach" && !this.version.plan.steps?.[this.reach.step]
        ? "result"
        : this.view,
  );

  constructor(private readonly id: number) {
    this.history = new History(id);
    this.n = Number(router.query.get("frame") ?? 0);
    const view = router.query.get("view") as View | null;
    if (view && VIEWS.includes(view)) this.view = view;
    const zoom = Number(router.query.get("zoom"));
    if (zoom) this.zoom = zoom;
  }

  open = () =>
    notices.watch(async () => {
      await this.load();
      [this.reach.parts, this.treatments, this.formats, this.profiles] = await Promise.all([
        asked(api.GET("/api/reach")).then((answer) => answer.parts),
        asked(api.GET("/api/treatments")),
        asked(api.GET("/api/formats")),
        asked(api.GET("/api/profiles")),
      ]);
      const match = this.shot?.matching_profile;
      if (match != null && this.shot?.report) void this.useProfile(match);
      void this.compare.load();
      void this.handover.load();
      await Promise.all([this.loadRenders(), this.measureRemaining(), this.looks.load()]);
    });

  private async load(): Promise<void> {
    const shot = await asked(api.GET("/api/shots/{shot_id}", { params: { path: { shot_id: this.id } } }));
    this.shot = shot;
    this.n = clamp(this.n, 0, shot.media.frames - 1);
    this.readings = shot.report?.patches ?? [];
    if (!shot.plans.some((v) => v.id === this.versionId)) this.versionId = shot.plans.at(-1)?.id ?? null;
  }

  private async loadRenders(): Promise<void> {
    if (!this.shot) return;
    const params = { path: { job_id: this.shot.job_id } };
    const all = await asked(api.GET("/api/jobs/{job_id}/renders", { params }));
    this.renders = all.filter((render) => render.shot_id === this.id);
  }

  /** Follow background work on this shot. */
  follow(jobId: number): () => void {
    return listen(jobId, (event) => {
      if (event.shot_id !== this.id || !this.shot) return;
      if (event.kind === "survey") {
        if (this.shot.survey && this.shot.survey.id > event.id) return;
        const ended = this.measuring && event.state === "done";
        this.shot.survey = { cancel_requested: false, ...this.shot.survey, ...event };
        if (event.state === "failed" && event.message) notices.tell(event.message);
        if (ended)
          void notices.watch(async () => {
            await this.load();
            await Promise.all([this.measureRemaining(), this.looks.load()]);
          });
      } else {
        const render = this.renders.find((r) => r.id === event.id);
        const ended = render && render.state !== event.state && event.state === "done";
        if (render) Object.assign(render, event);
        if (ended) void notices.watch(() => this.loadRenders());
      }
    });
  }

  go(n: number): void {
    if (this.shot) this.n = clamp(Math.round(n), 0, this.shot.media.frames - 1);
  }

  /** Closer at a place of a frame. */
  goTo(n: number, place: { x: number; y: number; width: number; height: number } | null | undefined): void {
    this.go(n);
    this.marked = place ? { ...place, frame: n } : null;
    if (place) this.centre = { x: place.x + place.width / 2, y: place.y + place.height / 2 };
  }

  /** Show a view; results need a version. */
  show(view: View): void {
    if (view === "source" || this.version) this.view = view;
    this.compare.front = "";
  }

  /** Keep in the address what one is looking at, once it rests: browsers allow few such notes a second. */
  noteAddress(): () => void {
    const now = {
      frame: String(this.n),
      view: this.view,
      zoom: this.zoom === null ? "fit" : String(this.zoom),
    };
    const later = setTimeout(() => router.note(now), NOTE_AFTER_MS);
    return () => clearTimeout(later);
  }

  measure = (patches: Patch[] = []) =>
    notices.watch(async () => {
      if (!this.shot) return;
      const params = { path: { shot_id: this.id } };
      this.shot.survey = await asked(api.POST("/api/shots/{shot_id}/survey", { params, body: { patches } }));
    });

  stopMeasuring = () =>
    notices.watch(async () => {
      await asked(api.POST("/api/shots/{shot_id}/survey/cancel", { params: { path: { shot_id: this.id } } }));
    });

  /** Judge a patch the user drew, or moved from where `instead` was, and keep it beside the others. */
  judge = (patch: Patch, instead?: PatchReading) =>
    notices.watch(async () => {
      this.drawing = false;
      const params = { path: { shot_id: this.id } };
      const verdict = await asked(api.POST("/api/shots/{shot_id}/patch", { params, body: patch }));
      const at = instead ? this.readings.indexOf(instead) : -1;
      this.readings = at < 0 ? [...this.readings, verdict.reading] : this.readings.with(at, verdict.reading);
      this.better = verdict.better;
    });

  /** Take the place that was offered for a refused patch. */
  takeBetter(): void {
    if (!this.better) return;
    this.readings = [...this.readings.filter((r) => r.flat), this.better];
    this.better = null;
  }

  dropPatch(reading: PatchReading): void {
    this.readings = this.readings.filter((r) => r !== reading);
    this.better = null;
  }

  saveProfile = (name: string) =>
    notices.watch(async () => {
      const params = { path: { shot_id: this.id } };
      const body = { name, camera: "", gain: "", notes: "" };
      const saved = await asked(api.POST("/api/shots/{shot_id}/profile", { params, body }));
      this.profiles = [...this.profiles, saved];
    });

  /** Choose what to propose by, and see how well it fits this shot. */
  useProfile = (id: number | null) =>
    notices.watch(async () => {
      this.profileId = id;
      this.fit = null;
      if (id === null || !this.shot?.report) return;
      const params = { path: { shot_id: this.id, profile_id: id } };
      this.fit = await asked(api.GET("/api/shots/{shot_id}/profiles/{profile_id}/fit", { params }));
    });

  propose = () =>
    notices.watch(async () => {
      const params = { path: { shot_id: this.id } };
      const version = await asked(
        api.POST("/api/shots/{shot_id}/propose", { params, body: { profile_id: this.profileId } }),
      );
      await this.load();
      this.versionId = version.id;
      if (version.plan.steps?.length) this.show("result");
      await this.measureRemaining();
    });

  async choose(id: number): Promise<void> {
    this.versionId = id;
    await notices.watch(() => this.measureRemaining());
  }

  /** Change one step; the change can be undone and is saved a moment later. */
  changeStep(index: number, change: Partial<Step>): void {
    const steps = (this.version?.plan.steps ?? []).map((step, k) =>
      k === index ? { ...step, ...change } : step,
    );
    this.changeSteps(steps);
  }

  /** Repeat a step behind itself; it then measures what the first has left. */
  repeatStep(index: number): void {
    const steps = this.version?.plan.steps ?? [];
    const twin = { ...$state.snapshot(steps[index]), reason: "" };
    this.changeSteps(steps.toSpliced(index + 1, 0, twin as Step));
  }

  dropStep(index: number): void {
    this.changeSteps((this.version?.plan.steps ?? []).toSpliced(index, 1));
  }

  /** Move a step to another place of the order. */
  moveStep(index: number, to: number): void {
    const steps = this.version?.plan.steps ?? [];
    const moved = steps[index];
    if (moved && to >= 0 && to < steps.length)
      this.changeSteps(steps.toSpliced(index, 1).toSpliced(to, 0, moved));
  }

  /** Add a step with its defaults; where there is no plan yet, one begins with it. */
  addStep = (kind: string) =>
    notices.watch(async () => {
      const step = { kind } as Step;
      if (this.version) return this.changeSteps([...(this.version.plan.steps ?? []), step]);
      if (!this.shot?.report) return;
      const profile = $state.snapshot(this.shot.report.profile);
      const plan = { schema: "yellow-clean/plan/1", profile, steps: [step] } as unknown as Plan;
      await this.makeVersion(plan, "");
    });

  /** Add steps behind those of the version. */
  addSteps(steps: Step[]): void {
    this.changeSteps([...(this.version?.plan.steps ?? []), ...steps]);
  }

  /** Look again at what the server has; the newest version is then the current one. */
  async reload(): Promise<void> {
    await this.load();
    this.versionId = this.shot?.plans.at(-1)?.id ?? null;
    await this.measureRemaining();
  }

  private changeSteps(steps: Step[]): void {
    const version = this.version;
    if (!version) return;
    const what = changedNumber(version.plan.steps, steps);
    const dragged =
      what !== null && what === this.lastChange.what && Date.now() - this.lastChange.at < ONE_CHANGE_MS;
    if (!dragged) this.history.note({ id: version.id, plan: $state.snapshot(version.plan) });
    this.lastChange = { what, at: Date.now() };
    this.put(version, { ...version.plan, steps });
  }

  undo(): void {
    this.travel("undo");
  }

  redo(): void {
    this.travel("redo");
  }

  /** Make a copy of the version and go on with that. */
  duplicateVersion = () =>
    notices.watch(async () => {
      if (!this.version) return;
      const { plan, label } = this.version;
      await this.makeVersion($state.snapshot(plan), `Copy of ${label}`);
    });

  /** Delete the version; undo brings it back. */
  deleteVersion = () =>
    notices.watch(async () => {
      const version = this.version;
      if (!version) return;
      await this.removeVersion(version);
      const plan = $state.snapshot(version.plan);
      this.history.note({ id: version.id, plan, deleted: { note: version.note, label: version.label } });
    });

  /** Write a note on the version, or name it. */
  tellVersion = (told: Partial<Told>) =>
    notices.watch(async () => {
      const version = this.version;
      if (!version) return;
      const before = { note: version.note, label: version.label };
      await this.putTold(version, { ...before, ...told });
      this.history.note({ id: version.id, plan: $state.snapshot(version.plan) as Plan, told: before });
    });

  private async putTold(version: Version, told: Told): Promise<void> {
    const params = { path: { version_id: version.id } };
    const body = { plan: $state.snapshot(version.plan), ...told };
    const saved = await asked(api.PUT("/api/versions/{version_id}", { params, body }));
    Object.assign(version, { note: saved.note, label: saved.label });
  }

  /** Undo or redo a note or a name. */
  private async travelTold(direction: "undo" | "redo", version: Version, told: Told): Promise<void> {
    const now = { note: version.note, label: version.label };
    await this.putTold(version, told);
    this.history.arrived(direction, {
      id: version.id,
      plan: $state.snapshot(version.plan) as Plan,
      told: now,
    });
  }

  private async makeVersion(plan: Plan, note: string, label?: string): Promise<Version> {
    const params = { path: { shot_id: this.id } };
    const made = await asked(
      api.POST("/api/shots/{shot_id}/versions", { params, body: { plan, note, label } }),
    );
    await this.load();
    this.versionId = made.id;
    void notices.watch(() => this.measureRemaining());
    return made;
  }

  private async removeVersion(version: Version): Promise<void> {
    clearTimeout(this.saving);
    const params = { path: { version_id: version.id } };
    await asked(api.DELETE("/api/versions/{version_id}", { params }));
    await this.load();
    void notices.watch(() => this.measureRemaining());
  }

  /** Undo or redo a deletion. The version comes back under a new number, which earlier changes then mean. */
  private async travelDeletion(direction: "undo" | "redo", state: Change): Promise<void> {
    const there = this.shot?.plans.find((v) => v.id === state.id);
    if (there) {
      await this.removeVersion(there);
      return this.history.arrived(direction, state);
    }
    const made = await this.makeVersion(state.plan, state.deleted?.note ?? "", state.deleted?.label);
    this.history.renumber(state.id, made.id);
    this.history.arrived(direction, { ...state, id: made.id });
  }

  private travel(direction: "undo" | "redo"): void {
    const state = this.history.travel(direction);
    if (state?.deleted) return void notices.watch(() => this.travelDeletion(direction, state));
    const version = this.shot?.plans.find((v) => v.id === state?.id);
    if (!state || !version) return;
    if (state.told) return void notices.watch(() => this.travelTold(direction, version, state.told as Told));
    this.history.arrived(direction, { id: version.id, plan: $state.snapshot(version.plan) });
    this.versionId = version.id;
    this.put(version, state.plan);
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

  /** Whether the server knows of every change. */
  get saved(): boolean {
    return this.sent === this.changes;
  }

  private async save(version: Version): Promise<void> {
    if (this.sending) return this.saveSoon(version);
    this.sending = true;
    const sending = this.changes;
    try {
      const params = { path: { version_id: version.id } };
      const body = { plan: $state.snapshot(version.plan) };
      const saved = await asked(api.PUT("/api/versions/{version_id}", { params, body }));
      version.key = saved.key;
      version.matte_keys = saved.matte_keys;
      this.sent = sending;
    } finally {
      this.sending = false;
    }
    clearTimeout(this.measuringSoon);
    this.measuringSoon = setTimeout(
      () => void notices.watch(() => this.measureRemaining()),
      MEASURE_AFTER_MS,
    );
  }

  /** What the version leaves of the findings. */
  private async measureRemaining(): Promise<void> {
    const version = this.version;
    this.remaining = null;
    if (!version || !this.shot?.report) return;
    const params = { path: { version_id: version.id } };
    const found = await asked(api.GET("/api/versions/{version_id}/remaining", { params }));
    if (this.version?.id === version.id) this.remaining = found;
  }

  render = (format: string, first: number, stop: number, bakeLook: boolean) =>
    notices.watch(async () => {
      if (!this.version) return;
      const body = { version_id: this.version.id, format, first, stop, bake_look: bakeLook };
      this.renders = [await asked(api.POST("/api/renders", { body })), ...this.renders];
    });

  cancelRender = (render: Render) =>
    notices.watch(async () => {
      await asked(
        api.POST("/api/renders/{render_id}/cancel", { params: { path: { render_id: render.id } } }),
      );
    });

  deleteRender = (render: Render) =>
    notices.watch(async () => {
      await asked(api.DELETE("/api/renders/{render_id}", { params: { path: { render_id: render.id } } }));
      this.renders = this.renders.filter((r) => r.id !== render.id);
    });
}
