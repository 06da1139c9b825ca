import {
  api,
  asked,
  listen,
  type FindingKind,
  type Job,
  type Profile,
  type Shot,
  type WorkEvent,
} from "../api/client";
import { notices } from "../lib/notices.svelte";
import { router } from "../lib/router.svelte";
import { arranged } from "./arrange";
import { upload } from "./upload";

/** State of the Jobs screen: the jobs, and the shots of the open one. */
export class Jobs {
  all = $state<Job[]>([]);
  shots = $state<Shot[]>([]);
  /** The job that the shots are of, once they are here. */
  shotsOf = $state<number | null>(null);
  loaded = $state(false);
  sending = $state<number | null>(null);
  kinds = $state<FindingKind[]>([]);
  profiles = $state<Profile[]>([]);
  sort = $state("name");
  filter = $state("all");
  /** The shots as the contact sheet shows them. */
  readonly shown = $derived(arranged(this.shots, this.sort, this.filter));
  readonly open = $derived.by(() => this.all.find((job) => job.id === this.chosen()) ?? this.all[0] ?? null);

  constructor(private readonly chosen: () => number | null) {}

  load = () =>
    notices.watch(async () => {
      [this.all, this.kinds, this.profiles] = await Promise.all([
        asked(api.GET("/api/jobs")),
        asked(api.GET("/api/findings")),
        asked(api.GET("/api/profiles")),
      ]);
      this.loaded = true;
    });

  loadShots = (jobId: number) =>
    notices.watch(async () => {
      if (this.shotsOf !== jobId) [this.shots, this.shotsOf] = [[], null];
      const shots = await asked(api.GET("/api/jobs/{job_id}/shots", { params: { path: { job_id: jobId } } }));
      if (this.open?.id === jobId) [this.shots, this.shotsOf] = [shots, jobId]; // else another was opened meanwhile
    });

  /** Follow the job's background work while the screen is open. */
  follow(jobId: number): () => void {
    return listen(jobId, (event) => this.hear(jobId, event));
  }

  private hear(jobId: number, event: WorkEvent): void {
    const shot = this.shots.find((s) => s.id === event.shot_id);
    if (!shot) return;
    const before = event.kind === "survey" ? shot.survey : shot.render;
    if (before && before.id > event.id) return;
    const work = { ...event, cancel_requested: before?.cancel_requested ?? false };
    if (event.kind === "survey") shot.survey = work;
    else shot.render = work;
    const ended = before?.state !== event.state && event.state === "done";
    if (ended) void this.loadShots(jobId);
  }

  create = (name: string) =>
    notices.watch(async () => {
      const job = await asked(api.POST("/api/jobs", { body: { name } }));
      this.all = [job, ...this.all];
      router.go(`/jobs/${job.id}`);
    });

  add = (files: File[]) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job || !files.length) return;
      this.sending = 0;
      try {
        const added = await upload(job.id, files, (share) => (this.sending = share));
        added.refused.forEach((line) => notices.tell(line));
      } finally {
        this.sending = null;
        await this.loadShots(job.id);
      }
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

  measure = (shots: Shot[]) =>
    notices.watch(async () => {
      for (const shot of shots)
        shot.survey = await asked(
          api.POST("/api/shots/{shot_id}/survey", {
            params: { path: { shot_id: shot.id } },
            body: { patches: [] },
          }),
        );
    });

  /** A new version for every measured shot: by its own noise, by a saved profile, or by the matching one. */
  propose = (by: string) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const profile_id = /^\d+$/.test(by) ? Number(by) : null;
      const body = { profile_id, matching: by === "matching" };
      this.shots = await asked(
        api.POST("/api/jobs/{job_id}/propose", { params: { path: { job_id: job.id } }, body }),
      );
    });

  setTolerances = (tolerances: Record<string, number>) =>
    notices.watch(async () => {
      const job = this.open;
      if (!job) return;
      const params = { path: { job_id: job.id } };
      const changed = await asked(api.PATCH("/api/jobs/{job_id}", { params, body: { tolerances } }));
      this.all = this.all.map((j) => (j.id === changed.id ? changed : j));
      await this.loadShots(job.id);
    });

  cancel = (shots: Shot[]) =>
    notices.watch(async () => {
      for (const shot of shots)
        await asked(
          api.POST("/api/shots/{shot_id}/survey/cancel", { params: { path: { shot_id: shot.id } } }),
        );
    });

  remove = (shot: Shot) =>
    notices.watch(async () => {
      await asked(api.DELETE("/api/shots/{shot_id}", { params: { path: { shot_id: shot.id } } }));
      this.shots = this.shots.filter((s) => s.id !== shot.id);
    });
}

export function busy(shot: Shot): boolean {
  return shot.survey?.state === "queued" || shot.survey?.state === "running";
}
