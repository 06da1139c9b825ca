import {
  api,
  asked,
  listen,
  PLAIN,
  type Closer,
  type Dither,
  type FindingKind,
  type NoiseCurve,
  type OutputFormat,
  type Patch,
  type PatchReading,
  type Profile,
  type ProfileFit,
  type Left,
  type PatchBeforeAfter,
  type Standing,
  type Render,
  type ShotDetail,
  type Treatment,
  type Version,
  type View,
  type Wishes,
} from "../api/client";
import { ratioOf } from "../lib/format";
import { clamp, type Box } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import { router } from "../lib/router.svelte";
import { CompareDesk } from "./compare.svelte";
import { CourseDesk } from "./course.svelte";
import { HandoverDesk } from "./handover.svelte";
import { History, type Direction } from "./history.svelte";
import { LayoutDesk } from "./layout.svelte";
import { LookDesk } from "./look.svelte";
import { OverworkDesk } from "./overwork.svelte";
import { MarkDesk } from "./marks.svelte";
import { Player } from "./player.svelte";
import type { Pick } from "./pointer.svelte";
import { ReachDesk } from "./reach.svelte";
import { StripDesk } from "./strip.svelte";
import { VersionDesk } from "./versions.svelte";

/** A patch's place as a name. */
function placeName(patch: Patch): string {
  return [patch.x, patch.y, patch.width, patch.height, patch.frame].join(" ");
}

const NOTE_AFTER_MS = 250;
const VIEWS: View[] = ["source", "result", "removed", "reach"];

/** State of the Bench: one shot, where one looks, and what is done to it. */
export class Bench {
  shot = $state<ShotDetail>();
  treatments = $state<Treatment[]>([]);
  formats = $state<OutputFormat[]>([]);
  private kinds = $state<FindingKind[]>([]);
  renders = $state<Render[]>([]);
  /** What the version on the screen leaves; null while that is being measured. */
  left = $state<Left | null>(null);
  /** What it leaves at patches that were drawn, by their place. */
  private drawnAfter = $state<Record<string, PatchBeforeAfter>>({});
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
  /** The step whose own view is shown, and which of them. */
  own = $state({ step: 0, name: "" });
  zoom = $state<number | null>(null);
  centre = $state<{ x: number; y: number } | null>(null);
  /** Waiting for a click on the picture: for the inset, or for a setting. */
  pick = $state<Pick | null>(null);
  /** The part of the frame that is seen. */
  visible = $state.raw<Box | null>(null);
  drawing = $state(false);
  /** The place of the finding that was opened last. */
  marked = $state<(Box & { frame: number }) | null>(null);
  computing = $state(false);
  /** How both sides of the picture are looked at. */
  closer = $state<Closer>({ ...PLAIN });

  readonly history: History;
  /** Where the steps act, as one works on it. */
  readonly reach: ReachDesk = new ReachDesk(this);
  readonly strip: StripDesk = new StripDesk(this);
  readonly versions: VersionDesk = new VersionDesk(this);
  readonly compare: CompareDesk = new CompareDesk(this);
  readonly looks: LookDesk = new LookDesk(this);
  readonly handover: HandoverDesk = new HandoverDesk(this);
  readonly overwork: OverworkDesk = new OverworkDesk(this);
  readonly courses: CourseDesk = new CourseDesk(this);
  readonly marks: MarkDesk = new MarkDesk(this);
  readonly player: Player = new Player(this);
  readonly layout: LayoutDesk = new LayoutDesk();

  private askedForRemaining = 0;

  readonly version = $derived<Version | null>(this.shot?.plans.find((v) => v.id === this.versionId) ?? null);
  /** The curve of the saved profile that is chosen. */
  readonly savedCurve = $derived<NoiseCurve | null>(
    this.profiles.find((p) => p.id === this.profileId)?.curve ?? null,
  );
  readonly measuring = $derived(
    this.shot?.survey?.state === "queued" || this.shot?.survey?.state === "running",
  );
  /** The findings as they stand under the version on the screen; as they were measured while that is not known. */
  readonly standings = $derived<Standing[]>(this.left?.standings ?? this.shot?.measured ?? []);
  /** Width of a pixel over its height. */
  readonly aspect = $derived(ratioOf(this.shot?.media.pixel_aspect ?? "1"));
  /** The view of the version on the screen. */
  readonly shown = $derived<View>(
    !this.version
      ? "source"
      : (this.view === "reach" && !this.version.plan.steps?.[this.reach.step]) ||
          (this.view === "own" && !this.ownViews.some((view) => view.name === this.own.name))
        ? "result"
        : this.view,
  );

  constructor(readonly id: number) {
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
      [this.reach.parts, this.treatments, this.formats, this.profiles, this.kinds] = await Promise.all([
        asked(api.GET("/api/reach")).then((answer) => answer.parts),
        asked(api.GET("/api/treatments")),
        asked(api.GET("/api/shots/{shot_id}/formats", { params: { path: { shot_id: this.id } } })),
        asked(api.GET("/api/profiles")),
        asked(api.GET("/api/findings")),
      ]);
      const match = this.shot?.matching_profile;
      if (match != null && this.shot?.report) void this.useProfile(match);
      void this.compare.load();
      void this.handover.load();
      await Promise.all([this.loadRenders(), this.measureRemaining(), this.looks.load()]);
    });

  /** Ask again for what an outage kept from coming. */
  resume = () =>
    this.shot
      ? notices.watch(async () => {
          await Promise.all([this.loadRenders(), this.left ? undefined : this.measureRemaining()]);
        })
      : this.open();

  async load(): Promise<void> {
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
    this.renders = all.filter((render) => render.shot_id === this.id).toSorted((a, b) => b.id - a.id);
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

  /** What to do about a finding that nothing treats. */
  insteadOf(kind: string): string {
    return this.kinds.find((k) => k.kind === kind)?.instead ?? "";
  }

  /** Whether a finding is read off the file, so that the result has none before it is written. */
  toldByFile(kind: string): boolean {
    return this.kinds.find((k) => k.kind === kind)?.told_by_file ?? false;
  }

  /** What the own view on the screen is called. */
  get titleOfOwn(): string {
    return this.ownViews.find((view) => view.name === this.own.name)?.title ?? this.own.name;
  }

  /** The views that the step offers whose own view is chosen. */
  private get ownViews() {
    const kind = this.version?.plan.steps?.[this.own.step]?.kind;
    return this.treatments.find((t) => t.kind === kind)?.views ?? [];
  }

  /** Show a view that a step offers of its own work, or go back to the result. */
  toggleOwn(step: number, name: string): void {
    const showing = this.view === "own" && this.own.step === step && this.own.name === name;
    this.own = { step, name };
    this.show(showing ? "result" : "own");
  }

  /** Show a view, whatever side was shown in its place; results need a version. */
  show(view: View): void {
    if (view === "source" || this.version) this.view = view;
    this.compare.front = "";
    this.compare.toggled = false;
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

  /** Say what the shot's values are in, for all shots of its camera where that is asked for. */
  chooseInputSpace = (space: string, wholeCamera: boolean) =>
    notices.watch(async () => {
      const params = { path: { shot_id: this.id } };
      const body = { space, whole_camera: wholeCamera };
      await asked(api.PUT("/api/shots/{shot_id}/input-space", { params, body }));
      await this.load();
      await this.looks.load();
    });

  /** Have each field of an interlaced shot as a frame, in a shot in the place of this one. */
  makeFieldsFrames = (first: "measured" | "top" | "bottom") =>
    notices.watch(async () => {
      const params = { path: { shot_id: this.id } };
      const made = await asked(api.POST("/api/shots/{shot_id}/fields", { params, body: { first } }));
      router.go(`/shots/${made.id}`);
      const told = `${made.name}: ${made.made_of}, ${made.media.frames} frames; it is being measured.`;
      notices.tell(told, () => void this.takeFieldsBack(made.id));
    });

  private takeFieldsBack = (shot_id: number) =>
    notices.watch(async () => {
      const woven = await asked(
        api.POST("/api/shots/{shot_id}/take-back", { params: { path: { shot_id } } }),
      );
      router.go(`/shots/${woven.id}`);
    });

  stopMeasuring = () =>
    notices.watch(async () => {
      await asked(api.POST("/api/shots/{shot_id}/survey/cancel", { params: { path: { shot_id: this.id } } }));
    });

  /** Judge a patch the user drew, or moved from where `instead` was, and keep it beside the others. */
  judge = (patch: Patch, instead?: PatchReading) =>
    notices.watch(async () => {
      this.drawing = false;
      const verdict = await this.verdictOn(patch);
      const at = instead ? this.readings.indexOf(instead) : -1;
      this.readings = at < 0 ? [...this.readings, verdict.reading] : this.readings.with(at, verdict.reading);
      this.better = verdict.better;
    });

  private async verdictOn(patch: Patch) {
    const params = { path: { shot_id: this.id }, query: { version_id: this.version?.id } };
    const verdict = await asked(api.POST("/api/shots/{shot_id}/patch", { params, body: patch }));
    if (verdict.result) this.drawnAfter[placeName(patch)] = verdict.result;
    return verdict;
  }

  /** What the version on the screen leaves at a patch, where that is known. */
  after(patch: Patch): PatchBeforeAfter | undefined {
    const name = placeName(patch);
    return this.left?.left.patches.find((p) => placeName(p.patch) === name) ?? this.drawnAfter[name];
  }

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

  /** Make what is proposed a version, or those of its steps that are named by number. */
  propose = (steps: number[], wishes: Wishes) =>
    notices.watch(async () => {
      const params = { path: { shot_id: this.id } };
      const body = { profile_id: this.profileId, steps, wishes };
      const version = await asked(api.POST("/api/shots/{shot_id}/propose", { params, body }));
      await this.load();
      this.versionId = version.id;
      if (version.plan.steps?.length) this.show("result");
      await this.measureRemaining();
    });

  /** Add a step with its defaults, and open its settings. */
  addStep = async (kind: string): Promise<void> => {
    await this.versions.addStep(kind);
    this.layout.opened = { step: (this.version?.plan.steps?.length ?? 0) - 1 };
  };

  /** Move a step to another place of the order; its settings stay open. */
  moveStep(index: number, to: number): void {
    this.versions.moveStep(index, to);
    this.layout.opened = { step: to };
  }

  async choose(id: number): Promise<void> {
    this.versionId = id;
    await notices.watch(() => this.measureRemaining());
  }

  /** Look again at what the server has; the newest version is then the current one. */
  async reload(): Promise<void> {
    await this.load();
    this.versionId = this.shot?.plans.at(-1)?.id ?? null;
    await this.measureRemaining();
  }

  /** Take the last change of this shot back, or again. */
  travel = (direction: Direction) =>
    notices.watch(async () => {
      const change = this.history.travel(direction);
      if (!change) return;
      const back =
        change.what === "look"
          ? this.looks.travel(change)
          : change.what === "still"
            ? await this.compare.travel(change)
            : await this.versions.travel(change);
      if (back) this.history.arrived(direction, back);
    });

  /** What the version leaves of the findings, told figure by figure as they are measured. */
  async measureRemaining(): Promise<void> {
    const asking = ++this.askedForRemaining;
    const version = this.version;
    this.left = null;
    this.drawnAfter = {};
    if (!version || !this.shot?.report) return;
    const params = { path: { version_id: version.id } };
    do {
      const found = await asked(api.GET("/api/versions/{version_id}/remaining", { params }));
      if (asking !== this.askedForRemaining || this.version?.id !== version.id) return;
      this.left = found;
    } while (this.left.left.coming.length);
    for (const { patch } of this.readings) if (!this.after(patch)) await this.verdictOn(patch);
  }

  render = (format: string, first: number, stop: number, bakeLook: boolean, dither: Dither) =>
    notices.watch(async () => {
      if (!this.version) return;
      const body = { version_id: this.version.id, format, first, stop, bake_look: bakeLook, dither };
      this.renders = [await asked(api.POST("/api/renders", { body })), ...this.renders];
    });

  cancelRender = (render: Render) =>
    notices.watch(async () => {
      render.cancel_requested = true; // said at once; the work ends with the frame it is at
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
