import { api, asked, pictureAddress, type Strip } from "../api/client";
import { clamp, type Box } from "../lib/geometry";
import { notices } from "../lib/notices.svelte";
import type { Stand } from "./stand";
import type { VersionDesk } from "./versions.svelte";
import type { Control } from "./schema";

/** Size of the region that is tried, in source pixels. */
const TILE = { width: 232, height: 216 };

/** What it knows of the Bench. */
type Known = Stand & { readonly looks: { on: boolean }; readonly versions: Pick<VersionDesk, "changeStep"> };

/** A test strip: one region at seven values of one setting. */
export class StripDesk {
  /** Raw: it is compared by identity. */
  control = $state.raw<Control | null>(null);
  step = $state(0);
  region = $state<Box>({ x: 0, y: 0, ...TILE });
  strip = $state<Strip | null>(null);

  private waiting = new AbortController();

  constructor(private readonly bench: Known) {}

  /** Try a setting around the middle of what is seen. */
  start = (step: number, control: Control) =>
    notices.watch(async () => {
      const { shot, version, n } = this.bench;
      if (!shot || !version) return;
      const { width, height } = shot.media;
      const middle = this.bench.centre ?? { x: width / 2, y: height / 2 };
      const size = { width: Math.min(TILE.width, width), height: Math.min(TILE.height, height) };
      this.region = {
        ...size,
        x: Math.round(clamp(middle.x - size.width / 2, 0, width - size.width)),
        y: Math.round(clamp(middle.y - size.height / 2, 0, height - size.height)),
      };
      this.step = step;
      this.control = control;
      this.strip = null;
      const params = { path: { version_id: version.id } };
      const body = { step, setting: control.name, n, ...this.region };
      const { signal } = (this.waiting = new AbortController());
      try {
        const made = await asked(api.POST("/api/versions/{version_id}/strip", { params, body, signal }));
        if (this.control === control) this.strip = made;
      } catch (error) {
        if (!signal.aborted) throw error;
      }
    });

  /** The picture of the region at a value. */
  address(value: number): string {
    const { shot, version, n } = this.bench;
    if (!shot || !version || !this.control) return "";
    const side = { kind: "version", version, view: "result", step: this.step } as const;
    const plain = pictureAddress(shot, side, { n, region: this.region, look: this.bench.looks.on });
    return `${plain}&step=${this.step}&setting=${this.control.name}&value=${value}`;
  }

  take(value: number): void {
    const { control, step } = this;
    const settings = this.bench.version?.plan.steps?.[step]?.settings;
    if (control) this.bench.versions.changeStep(step, { settings: { ...settings, [control.name]: value } });
    this.close();
  }

  /** Put the strip away; what is still being computed for it ends. */
  close(): void {
    this.waiting.abort();
    this.control = this.strip = null;
  }
}
