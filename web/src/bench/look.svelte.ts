import {
  api,
  asked,
  sent,
  type Cdl,
  type Correction,
  type Look,
  type Lut,
  type Management,
  type NoiseUnderLook,
} from "../api/client";
import { changedNumber } from "../lib/changes";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";
import { controlsOf, type Control } from "./schema";
import type { Change, History } from "./history.svelte";

const SAVE_AFTER_MS = 60;

/** What it knows of the Bench. */
type Known = Pick<Stand, "shot"> & { readonly history: History };

/** The look the shot is judged under. It changes what is seen, never the shot's own values. */
export class LookDesk {
  /** Whether the picture is shown under the look. */
  on = $state(false);
  look = $state<Look | null>(null);
  /** The controls of the look's numbers, and of the CDL's, as the engine's parameter models have them. */
  controls = $state<{ look: Control[]; cdl: Control[] }>({ look: [], cdl: [] });
  luts = $state<Lut[]>([]);
  management = $state<Management | null>(null);
  noise = $state<NoiseUnderLook | null>(null);
  /** The corrections of a document that holds several. */
  offered = $state<Correction[]>([]);
  /** Path of the configuration that `management` is about. */
  private offeredBy = "";
  private saving: ReturnType<typeof setTimeout> | undefined;

  constructor(private readonly bench: Known) {}

  async load(): Promise<void> {
    this.look = this.bench.shot?.look ?? null;
    const { parts } = await asked(api.GET("/api/looks"));
    this.controls = { look: controlsOf(parts.look ?? {}), cdl: controlsOf(parts.cdl ?? {}) };
    this.luts = await asked(api.GET("/api/luts"));
    await this.loadNoise();
  }

  /** What colour management offers; asked for when it is first looked at. */
  offer = (config = "") =>
    notices.watch(async () => {
      if (!this.bench.shot || (this.management && this.offeredBy === config)) return;
      const params = { path: { shot_id: this.bench.shot.id }, query: { config } };
      this.management = await asked(api.GET("/api/shots/{shot_id}/look/management", { params }));
      this.offeredBy = config;
    });

  /** Change parts of the look; it is then shown. The change can be undone. */
  change(part: Partial<Look>): void {
    if (!this.look) return;
    const before = $state.snapshot(this.look) as Look;
    const after = { ...before, ...part };
    this.bench.history.note({ what: "look", look: before }, changedNumber(before, after));
    this.put(after);
  }

  /** Go to an earlier or later look, and say the way back. */
  travel(change: Extract<Change, { what: "look" }>): Change | undefined {
    if (!this.look) return;
    const back = { what: "look", look: $state.snapshot(this.look) as Look } as const;
    this.put(change.look);
    return back;
  }

  private put(look: Look): void {
    this.look = look;
    clearTimeout(this.saving);
    this.saving = setTimeout(() => void notices.watch(() => this.save()), SAVE_AFTER_MS);
  }

  changeCdl(part: Partial<Cdl>): void {
    if (this.look) this.change({ cdl: { ...$state.snapshot(this.look.cdl), ...part } as Cdl });
  }

  readCdl = (file: File) =>
    notices.watch(async () => {
      const found = await sent<Correction[]>("/api/cdl", file);
      this.offered = found.length > 1 ? found : [];
      if (found.length === 1 && found[0]) this.change({ cdl: found[0].cdl });
    });

  addLut = (file: File) =>
    notices.watch(async () => {
      const lut = await sent<Lut>("/api/luts", file);
      this.luts = [...this.luts.filter((l) => l.id !== lut.id), lut];
      this.change({ lut: lut.path });
    });

  /** A look that is refused gives way to the one the server has. */
  private async save(): Promise<void> {
    const { shot } = this.bench;
    if (!shot || !this.look) return;
    const params = { path: { shot_id: shot.id } };
    try {
      const body = $state.snapshot(this.look);
      const saved = await asked(api.PUT("/api/shots/{shot_id}/look", { params, body }));
      shot.look = saved.look;
      shot.look_key = saved.key;
      this.on = true; // not before: the picture would be asked for under the look of before
    } catch (error) {
      this.look = shot.look;
      throw error;
    }
    await this.loadNoise();
  }

  private async loadNoise(): Promise<void> {
    if (!this.bench.shot?.report) return;
    const params = { path: { shot_id: this.bench.shot.id } };
    this.noise = await asked(api.GET("/api/shots/{shot_id}/look/noise", { params }));
  }
}
