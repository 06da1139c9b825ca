import { api, asked, listen, type Job, type Render } from "../api/client";
import { notices } from "../lib/notices.svelte";

/** State of the Renders screen: all renders of a job, those that wait in the order of the queue. */
export class Renders {
  all = $state<Render[]>([]);
  job = $state<Job | null>(null);
  loaded = $state(false);
  readonly waiting = $derived(
    this.all
      .filter((render) => render.state === "running" || render.state === "queued")
      .toSorted((a, b) => Number(b.state === "running") - Number(a.state === "running")),
  );
  readonly ended = $derived(
    this.all
      .filter((render) => render.state !== "running" && render.state !== "queued")
      .toSorted((a, b) => b.id - a.id),
  );
  /** Seconds until all are done, where every one of them can be told. */
  readonly secondsLeft = $derived.by(() => {
    const each = this.waiting.filter((r) => !r.paused).map((render) => render.seconds_left);
    return each.every((seconds) => seconds !== null) ? each.reduce((a, b) => a + (b ?? 0), 0) : null;
  });
  readonly room = $derived(this.waiting.reduce((sum, render) => sum + (render.needed_bytes ?? 0), 0));

  constructor(private readonly jobId: number) {}

  load = () =>
    notices.watch(async () => {
      const params = { path: { job_id: this.jobId } };
      const [jobs, all] = await Promise.all([
        asked(api.GET("/api/jobs")),
        asked(api.GET("/api/jobs/{job_id}/renders", { params })),
      ]);
      this.job = jobs.find((job) => job.id === this.jobId) ?? null;
      this.all = all;
      this.loaded = true;
    });

  /** Follow the queue; returns a function that ends the listening. */
  follow(): () => void {
    return listen(this.jobId, (event) => {
      const render = event.kind === "render" ? this.all.find((r) => r.id === event.id) : undefined;
      if (!render) return;
      const another = render.state !== event.state;
      Object.assign(render, { state: event.state, progress: event.progress, message: event.message });
      render.started = event.started;
      if (another) void this.load();
    });
  }

  cancel = (render: Render) => this.change(render, "/api/renders/{render_id}/cancel");

  pause = (render: Render) => this.change(render, "/api/renders/{render_id}/pause");

  goOn = (render: Render) => this.change(render, "/api/renders/{render_id}/go-on");

  private change(
    render: Render,
    path:
      "/api/renders/{render_id}/cancel" | "/api/renders/{render_id}/pause" | "/api/renders/{render_id}/go-on",
  ) {
    return notices.watch(async () => {
      const told = await asked(api.POST(path, { params: { path: { render_id: render.id } } }));
      this.all = this.all.map((known) => (known.id === told.id ? told : known));
    });
  }

  /** Have what was written stand in for its source. */
  standIn = (render: Render) =>
    notices.watch(async () => {
      const params = { path: { render_id: render.id } };
      const shot = await asked(api.POST("/api/renders/{render_id}/stand-in", { params }));
      const told = `${shot.name} now reads ${render.file_name}; it is being measured.`;
      notices.tell(told, () => void this.takeBack(shot.id));
    });

  private takeBack = (shot_id: number) =>
    notices.watch(async () => {
      await asked(api.POST("/api/shots/{shot_id}/take-back", { params: { path: { shot_id } } }));
    });

  remove = (render: Render) =>
    notices.watch(async () => {
      await asked(api.DELETE("/api/renders/{render_id}", { params: { path: { render_id: render.id } } }));
      this.all = this.all.filter((known) => known.id !== render.id);
    });

  /** Put a render that waits before another, or last. */
  move = (id: number, before: number | null) =>
    notices.watch(async () => {
      const queue = this.waiting.filter((render) => render.state === "queued").map((render) => render.id);
      const rest = queue.filter((known) => known !== id);
      const at = before === null ? rest.length : rest.indexOf(before);
      if (at < 0) return;
      const ids = rest.toSpliced(at, 0, id);
      this.all = this.all.toSorted((a, b) => ids.indexOf(a.id) - ids.indexOf(b.id));
      await asked(api.POST("/api/render-order", { body: { ids } }));
    });

  /** Move a render that waits by so many places. */
  shift(render: Render, by: -1 | 1): void {
    const queue = this.waiting.filter((known) => known.state === "queued");
    const at = queue.findIndex((known) => known.id === render.id);
    const next = by < 0 ? queue[at - 1] : queue[at + 2];
    if (by < 0 && !next) return;
    void this.move(render.id, next?.id ?? null);
  }
}
