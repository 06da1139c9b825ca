import {
  api,
  asked,
  listen,
  sent,
  type DeliveryChoices,
  type FindingKind,
  type Job,
  type NoiseGroup,
  type Overwork,
  type Preset,
  type Profile,
  type Shot,
  type Step,
  type Timeline,
  type Unpacked,
  type Wanted,
  type WorkEvent,
} from "../api/client";
import { SvelteSet } from "svelte/reactivity";
import { notices } from "../lib/notices.svelte";
import { kept } from "../lib/kept";
import { router } from "../lib/router.svelte";
import { arranged } from "./arrange";
import { lacksFindings } from "./state";
import { upload } from "./upload";

const TIMELINES = /\.(otio|edl|xml)$/i;
const PACKED = /\.zip$/i;

/** Shots that are drawn at once. */
const DRAWN = 48;

/** State of the Jobs screen: the jobs, and the shots of the open one. */
export class Jobs {
  all = $state<Job[]>([]);
  shots = $state.raw<Shot[]>([]);
  /** The job that the shots are of, once they are here. */
  shotsOf = $state<number | null>(null);
  loaded = $state(false);
  sending = $state<number | null>(null);
  kinds = $state<FindingKind[]>([]);
  profiles = $state<Profile[]>([]);
  presets = $state<Preset[]>([]);
  choices = $state<DeliveryChoices | null>(null);
  /** Measured shots by their noise; asked for where it is shown. */
  groups = $state<NoiseGroup[]>([]);
  readonly groupOf = $derived(
    Object.fromEntries(this.groups.flatMap((group) => group.shot_ids.map((id) => [id, group] as const))),
  );
  /** The timeline that is looked at before it is taken. */
  timeline = $state<Timeline | null>(null);
  readonly picked = new SvelteSet<number>();
  /** What is done to many is done to these: the shots that are picked, or all that are shown. */
  readonly chosenShots = $derived.by(() => {
    const picked = this.shots.filter((shot) => this.picked.has(shot.id));
    return picked.length ? picked : this.shown;
  });
  sort = $state("reel");
  filter = $state("all");
  view = $state<"sheet" | "table">(kept("shots-view", "sheet"));
  /** The shots as the contact sheet shows them. */
  readonly shown = $derived(
    arranged(this.shots, this.sort, this.filter, (shot) => Number(this.groupOf[shot.id]?.name ?? Infinity)),
  );
  /** As many of them as are drawn: more come when the last one comes near. */
  /** What was found that newest versions damage, by version. */
  verdicts = $state.raw<Record<number, Overwork>>({});
  judging = $state<{ done: number; all: number } | null>(null);
  private judgingControl = new AbortController();
  private drawn = $state(DRAWN);
  /** How often shots were asked for: of several answers under way that to the last question counts. */
  private questions = 0;
  readonly inSight = $derived(this.shown.slice(0, this.drawn));
  readonly open = $derived.by(() => this.all.find((job) => job.id === this.chosen()) ?? this.all[0] ?? null);

  constructor(private readonly chosen: () => number | null) {}

  drawMore = (): void => {
    this.drawn += DRAWN;
  };

  pick(id: number): void {
    if (!this.picked.delete(id)) this.picked.add(id);
  }

  load = () =>
    notices.watch(async () => {
      [this.all, this.kinds, this.profiles, this.presets, this.choices] = await Promise.all([
        asked(api.GET("/api/jobs")),
        asked(api.GET("/api/findings")),
        asked(api.GET("/api/profiles")),
        asked(api.GET("/api/presets")),
        asked(api.GET("/api/delivery-choices")),
      ]);
      this.loaded = true;
    });

  loadShots = (jobId: number) =>
    notices.watch(async () => {
      if (this.shotsOf !== jobId) {
        [this.shots, this.shotsOf] = [[], null];
        this.picked.clear();
        this.drawn = DRAWN;
        await this.loadFirst(jobId);
      }
      const question = ++this.questions;
      const shots = await asked(api.GET("/api/jobs/{job_id}/shots", { params: { path: { job_id: jobId } } }));
      const newest = question === this.questions && this.open?.id === jobId; // another may have been opened meanwhile
      if (newest) [this.shots, this.shotsOf] = [shots, jobId];
    });

  /** The first shots of a long job, which are here before the rest can be told. */
  private async loadFirst(jobId: number): Promise<void> {
    if ((this.open?.shots ?? 0) <= DRAWN) return;
    const params = { path: { job_id: jobId }, query: { most: DRAWN } };
    const shots = await asked(api.GET("/api/jobs/{job_id}/shots", { params }));
    if (this.open?.id === jobId) [this.shots, this.shotsOf] = [shots, jobId];
  }

  /** Follow the job's background work while the screen is open. */
  follow(jobId: number): () => void {
    return listen(jobId, (event) => this.hear(jobId, event));
  }

  loadGroups = (jobId: number) =>
    notices.watch(async () => {
      const params = { path: { job_id: jobId } };
      const groups = await asked(api.GET("/api/jobs/{job_id}/noise-groups", { params }));
      if (this.open?.id === jobId) this.groups = groups;
    });

  private hear(jobId: number, event: WorkEvent): void {
    const shot = this.shots.find((s) => s.id === event.shot_id);
    if (!shot) return;
    const before = event.kind === "survey" ? shot.survey : shot.render;
    if (before && before.id > event.id) return;
    const work = { ...event, cancel_requested: before?.cancel_requested ?? false };
    const told = event.kind === "survey" ? { ...shot, survey: work } : { ...shot, render: work };
    this.shots = this.shots.map((known) => (known.id === shot.id ? told : known));
    if (event.state === "done" && (before?.state !== "done" || lacksFindings(told)))
      void this.loadShots(jobId);
  }

  create = (name: string) =>
    notices.watch(async () => {
      const job = await asked(api.POST("/api/jobs", { body: { name } }));
      this.all = [job, ...this.all];
      router.go(`/jobs/${job.id}`);
    });

  /** Timelines among files that were dropped or chosen are looked at, all else is added as footage. */
  add = (files: File[]) =>
    notices.watch(async () => {
      const job = this.open;
      const timelines = files.filter((file) => TIMELINES.test(file.name));
      const packed = files.filter((file) => PACKED.test(file.name));
      const footage = files.filter((file) => !timelines.includes(file) && !packed.includes(file));
      for (const file of packed) await this.unpack(file);
      if (!job || !files.length) return;
      if (footage.length) await this.send(job.id, footage);
      for (const file of timelines)
        this.timeline = await sent<Timeline>(`/api/jobs/${job.id}/timelines`, file);
    });

  /** A job that was packed elsewhere, opened. */
  private async unpack(file: File): Promise<void> {
    const { job_id, missing } = await sent<Unpacked>("/api/packed-jobs", file);
    missing.forEach((line) => notices.tell(line));
    await this.load();
    router.go(`/jobs/${job_id}`);
  }

  /** Say where the footage of a shot lies now. */
  pointShot = (shot: Shot, path: string) =>
    notices.watch(async () => {
      const params = { path: { shot_id: shot.id } };
      const told = await asked(api.POST("/api/shots/{shot_id}/media", { params, body: { path } }));
      this.shots = this.shots.map((known) => (known.id === told.id ? told : known));
    });

  private async send(jobId: number, files: File[]): Promise<void> {
    this.sending = 0;
    try {
      const added = await upload(jobId, files, (share) => (this.sending = share));
      added.refused.forEach((line) => notices.tell(line));
    } finally {
      this.sending = null;
      await this.loadShots(jobId);
    }
  }

  /** Look for what is missing of the timeline at hand in a folder. */
  lookIn = (path: string) =>
    notices.watch(async () => {
      if (!this.timeline) return;
      const params = { path: { timeline_id: this.timeline.id } };
      this.timeline = await asked(api.POST("/api/timelines/{timeline_id}/look", { params, body: { path } }));
    });

  pointTo = (key: string, path: string) =>
    notices.watch(async () => {
      if (!this.timeline) return;
      const params = { path: { timeline_id: this.timeline.id } };
      this.timeline = await asked(
        api.POST("/api/timelines/{timeline_id}/media", { params, body: { key, path } }),
      );
    });

  takeEvents = (handles: number) =>
    notices.watch(async () => {
      const timeline = this.timeline;
      if (!timeline || !this.open) return;
      this.timeline = null;
      const params = { path: { timeline_id: timeline.id } };
      const added = await asked(api.POST("/api/timelines/{timeline_id}/take", { params, body: { handles } }));
      added.refused.forEach((line) => notices.tell(line));
      await this.loadShots(this.open.id);
    });

  /** Put the timeline at hand away without taking it. */
  dropTimeline = () =>
    notices.watch(async () => {
      const timeline = this.timeline;
      this.timeline = null;
      if (!timeline || timeline.events.some((event) => event.taken)) return;
      await asked(
        api.DELETE("/api/timelines/{timeline_id}", { params: { path: { timeline_id: timeline.id } } }),
      );
    });

  importFrom = (path: string) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const params = { path: { job_id: job.id }, query: { path } };
      const added = await asked(api.POST("/api/jobs/{job_id}/import", { params }));
      added.refused.forEach((line) => notices.tell(line));
      await this.loadShots(job.id);
    });

  measure = (shots: Shot[]) => this.many("/api/jobs/{job_id}/measure", shots);

  stopMeasuring = (shots: Shot[]) => this.many("/api/jobs/{job_id}/stop-measuring", shots);

  private many(path: "/api/jobs/{job_id}/measure" | "/api/jobs/{job_id}/stop-measuring", shots: Shot[]) {
    return notices.watch(async () => {
      const job = this.open;
      if (!job || !shots.length) return;
      const body = { shot_ids: shots.map((shot) => shot.id) };
      this.shots = await asked(api.POST(path, { params: { path: { job_id: job.id } }, body }));
    });
  }

  /** A new version for each of the shots that was measured: by its own noise, by a saved profile, by that
   *  of its camera or of shots like it, or of a preset's steps. */
  propose = (shots: Shot[], by: string) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const preset = this.presets.find((known) => by === `preset ${known.id}`);
      if (preset) return this.applySteps(shots, preset.steps, preset.name);
      const profile_id = /^\d+$/.test(by) ? Number(by) : null;
      const known = by === "camera" || by === "group" ? by : "own";
      const body = { profile_id, by: known, shot_ids: shots.map((shot) => shot.id) } as const;
      const params = { path: { job_id: job.id } };
      const proposed = await asked(api.POST("/api/jobs/{job_id}/propose", { params, body }));
      this.shots = proposed.shots;
      this.tellMade(job.id, proposed.made);
    });

  /** Steps as a new version of each measured shot, by its own noise. */
  applySteps = (shots: Shot[], steps: Step[], note: string) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const params = { path: { job_id: job.id } };
      const body = { shot_ids: shots.map((shot) => shot.id), steps, note };
      const applied = await asked(api.POST("/api/jobs/{job_id}/apply", { params, body }));
      applied.refused.forEach((line) => notices.tell(line));
      await this.loadShots(job.id);
      this.tellMade(
        job.id,
        applied.versions.map((version) => version.id),
      );
    });

  private tellMade(jobId: number, made: number[]): void {
    const told = `${made.length} ${made.length === 1 ? "plan" : "plans"} made.`;
    if (made.length) notices.tell(told, () => void this.takeBack(jobId, made));
  }

  /** Judge shots under the look of one of them. */
  copyLook = (of: number, shots: Shot[]) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const params = { path: { job_id: job.id } };
      const body = { of, shot_ids: shots.map((shot) => shot.id) };
      const had = await asked(api.POST("/api/jobs/{job_id}/looks", { params, body }));
      const told = `${had.length} ${had.length === 1 ? "shot is" : "shots are"} judged under that look.`;
      const back = () => asked(api.PUT("/api/jobs/{job_id}/looks", { params, body: had }));
      notices.tell(told, () => void notices.watch(async () => void (await back())));
    });

  /** Judge what the newest version of each of the shots damages, on the middle of its middle frame, one after
   *  another; what is known already is not judged again. */
  judge = (shots: Shot[]) =>
    notices.watch(async () => {
      const wanted = shots.filter((s) => s.newest_version && !(s.newest_version in this.verdicts));
      const control = (this.judgingControl = new AbortController());
      for (const [k, shot] of wanted.entries()) {
        this.judging = { done: k, all: wanted.length };
        try {
          await this.judgeOne(shot, control.signal);
        } catch (error) {
          if (control.signal.aborted) break;
          notices.tell(`${shot.name}: ${error instanceof Error ? error.message : String(error)}`);
        }
      }
      this.judging = null;
    });

  stopJudging(): void {
    this.judgingControl.abort();
  }

  private async judgeOne(shot: Shot, signal: AbortSignal): Promise<void> {
    const version_id = shot.newest_version ?? 0;
    const params = { path: { version_id } };
    const found = await asked(api.POST("/api/versions/{version_id}/overwork", { params, body: {}, signal }));
    this.verdicts = { ...this.verdicts, [version_id]: found.report };
  }

  private takeBack = (jobId: number, version_ids: number[]) =>
    notices.watch(async () => {
      const params = { path: { job_id: jobId } };
      this.shots = await asked(api.POST("/api/jobs/{job_id}/take-back", { params, body: { version_ids } }));
    });

  /** Queue the newest plan of each shot in the formats that the job wants. */
  render = (shots: Shot[]) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const body = { shot_ids: shots.map((shot) => shot.id) };
      const params = { path: { job_id: job.id } };
      const queued = await asked(api.POST("/api/jobs/{job_id}/render", { params, body }));
      [...queued.refused, ...queued.told].forEach((line) => notices.tell(line));
      const count = queued.renders.length;
      if (count) notices.tell(`${count} ${count === 1 ? "render" : "renders"} queued. “Renders” shows them.`);
      await this.loadShots(job.id);
    });

  setWanted = (wanted: Wanted) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      this.changed(
        await asked(
          api.PATCH("/api/jobs/{job_id}", { params: { path: { job_id: job.id } }, body: { wanted } }),
        ),
      );
    });

  private changed(job: Job): void {
    this.all = this.all.map((known) => (known.id === job.id ? job : known));
  }

  setTolerances = (tolerances: Record<string, number>) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const params = { path: { job_id: job.id } };
      const changed = await asked(api.PATCH("/api/jobs/{job_id}", { params, body: { tolerances } }));
      this.changed(changed);
      await this.loadShots(job.id);
    });

  /** Shots of a long one's scenes, in its place. */
  cutInto = (shot: Shot, cuts: number[]) =>
    notices.watch(async () => {
      const params = { path: { shot_id: shot.id } };
      const made = await asked(api.POST("/api/shots/{shot_id}/scenes", { params, body: { cuts } }));
      const first = made.shots[0];
      if (first)
        notices.tell(`${made.shots.length} shots made of ${shot.name}.`, () => void this.takeShotBack(first));
      await this.loadShots(shot.job_id);
    });

  /** Remove what was made of a shot, as scenes or a stand-in, and have the shot itself again. Plans that were made
   *  since go with it only where that is wanted. */
  takeShotBack = (shot: Shot, sure = false) =>
    notices.watch(async () => {
      const made = this.shots.filter((known) => known.origin_id === shot.origin_id);
      const plans = made.reduce((sum, each) => sum + each.versions.length, 0);
      if (plans && !sure) {
        const lost = `${plans} ${plans === 1 ? "plan" : "plans"} made since would be lost.`;
        notices.tell(lost, () => void this.takeShotBack(shot, true), "Take back all the same");
        return;
      }
      const params = { path: { shot_id: shot.id }, query: { sure } };
      await asked(api.POST("/api/shots/{shot_id}/take-back", { params }));
      await this.loadShots(shot.job_id);
    });

  remove = (shot: Shot) =>
    notices.watch(async () => {
      await asked(api.DELETE("/api/shots/{shot_id}", { params: { path: { shot_id: shot.id } } }));
      this.shots = this.shots.filter((s) => s.id !== shot.id);
      this.picked.delete(shot.id);
    });
}
