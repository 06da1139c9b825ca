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
import { notices } from "../lib/notices.svelte";
import type { Bench } from "./bench.svelte";

const SAVE_AFTER_MS = 60;

/** The look the shot is judged under. It changes what is seen, never the shot's own values. */
export class LookDesk {
  /** Whether the picture is shown under the look. */
  on = $state(false);
  look = $state<Look | null>(null);
  luts = $state<Lut[]>([]);
  management = $state<Management | null>(null);
  noise = $state<NoiseUnderLook | null>(null);
  /** The corrections of a document that holds several. */
  offered = $state<Correction[]>([]);
  /** Path of the configuration that `management` is about. */
  private offeredBy = "";
  private saving: ReturnType<typeof setTimeout> | undefined;

  constructor(private readonly bench: Bench) {}

  async load(): Promise<void> {
    this.look = this.bench.shot?.look ?? null;
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

  /** Change parts of the look; it is then shown. */
  change(part: Partial<Look>): void {
    if (!this.look) return;
    const before = $state.snapshot(this.look);
    this.look = { ...before, ...part };
    this.on = true;
    clearTimeout(this.saving);
    this.saving = setTimeout(() => void notices.watch(() => this.save(before)), SAVE_AFTER_MS);
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

  private async save(before: Look): Promise<void> {
    const { shot } = this.bench;
    if (!shot || !this.look) return;
    const params = { path: { shot_id: shot.id } };
    try {
      const body = $state.snapshot(this.look);
      const saved = await asked(api.PUT("/api/shots/{shot_id}/look", { params, body }));
      shot.look = saved.look;
      shot.look_key = saved.key;
    } catch (error) {
      this.look = before;
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
